package httpapi

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
)

const (
	heartbeat   = 15 * time.Second
	streamBatch = 200
	// admittedAgain is how soon a stream ends whose key was revoked.
	admittedAgain = time.Second
)

// streamVisits sends visits as they are stored (server-sent events), from a
// sequence number on.
func (h *handlers) streamVisits(c *gin.Context) {
	f, err := request.Filter(c, h.Public.Sites)
	after := int64(0)
	if text := cmp.Or(c.GetHeader("Last-Event-ID"), c.Query("after")); err == nil && text != "" {
		if _, scanErr := fmt.Sscanf(text, "%d", &after); scanErr != nil || after < 0 {
			err = invalid.Field("after", fmt.Sprintf("%.20q is not a sequence number", text), "Give the id of the last event, or leave it out.")
		}
	} else if err == nil {
		after, err = h.Visits.Stored.StoredThrough(c)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	out := http.NewResponseController(c.Writer)
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no") // proxies pass it on at once
	c.Status(http.StatusOK)
	send := func(text string) error {
		_ = out.SetWriteDeadline(time.Now().Add(respond.WriteWithin)) // the next write says what was wrong
		if _, err := io.WriteString(c.Writer, text); err != nil {
			return err
		}
		return out.Flush()
	}
	if send(fmt.Sprintf("retry: 2000\nid: %d\n\n", after)) != nil {
		return
	}
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	again := time.NewTicker(admittedAgain)
	defer again.Stop()
	for {
		if err := h.stillAdmitted(c); errors.Is(err, access.ErrBadKey) || errors.Is(err, access.ErrBadSession) {
			return
		}
		changed := h.Visits.Changed()
		last, err := h.Visits.Stored.StoredThrough(c)
		var list []visit.StoredVisit
		if err == nil {
			list, err = h.Visits.Stored.StoredAfter(c, f, after, last, streamBatch)
		}
		for _, one := range list {
			text, jsonErr := json.Marshal(one.Visit)
			if jsonErr != nil || send(fmt.Sprintf("id: %d\nevent: visit\ndata: %s\n\n", one.Sequence, text)) != nil {
				return
			}
			after = one.Sequence
		}
		if len(list) == streamBatch {
			continue
		}
		if err == nil {
			after = max(after, last)
		}
		select {
		case <-changed:
		case <-again.C:
		case <-beat.C:
			if send(": still here\n\n") != nil {
				return
			}
		case <-c.Request.Context().Done():
			return
		case <-h.Visits.Stopping:
			return
		}
	}
}
