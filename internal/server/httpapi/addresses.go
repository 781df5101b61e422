package httpapi

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/invalid"
	"eastporch/internal/files/answers"
	"eastporch/internal/server/lookup"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
	"eastporch/internal/server/visits"
)

// question is how cards of addresses are asked for. Of whoever has an address no more is known
// than the site that a request is about: the asker's languages are not theirs.
func (h *handlers) question(c *gin.Context) (q lookup.Question, err error) {
	site, err := request.Site(c, h.Public.Sites)
	if err != nil {
		return q, err
	}
	if site != nil {
		q.Of = card.RequestContext{At: site.Local}
	}
	q.Why = c.Query("why") == "all"
	q.Language, err = request.Language(c, "en")
	return q, err
}

func (h *handlers) getAddress(c *gin.Context) {
	q, err := h.question(c)
	var made card.Card
	if err == nil {
		made, err = h.Atlas.Lookup.Card(c, c.Param("address"), q)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	respond.Own(c)
	h.answerCard(c, &made)
}

// getAddresses answers for many addresses, in their order: JSON with a list, or
// lines of text. As NDJSON the answers are streamed.
func (h *handlers) getAddresses(c *gin.Context) {
	list, err := readAddresses(c)
	format := ""
	if err == nil {
		format, err = request.Format(c)
	}
	var q lookup.Question
	if err == nil {
		q, err = h.question(c)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	q.Why = false
	reason := func(err error) string { return problem.From(err).Detail }
	respond.Own(c)
	if format == "ndjson" && c.Query("fields") == "" {
		c.Header("Content-Type", answers.Types[format])
		out := json.NewEncoder(c.Writer)
		for i, text := range list {
			if err := out.Encode(h.Atlas.Lookup.One(c, text, q, reason)); err != nil {
				return // nobody reads it
			}
			if i%100 == 99 {
				c.Writer.Flush()
			}
		}
		return
	}
	if paths := answers.Paths(c.Query("fields")); len(paths) > 0 { // before work that is for nothing
		if _, err := answers.Render("json", h.Atlas.Lookup.One(c, "0.0.0.0", q, reason), "", paths); err != nil {
			h.fail(c, respond.Wrong(err, "addresses"))
			return
		}
	}
	answer := api.AskedList{Addresses: make([]api.Asked, len(list))}
	for i, text := range list {
		answer.Addresses[i] = h.Atlas.Lookup.One(c, text, q, reason)
	}
	h.replyList(c, "addresses", answer, nil)
}

func readAddresses(c *gin.Context) (list []string, err error) {
	if strings.HasPrefix(c.ContentType(), "text/") {
		text, err := io.ReadAll(c.Request.Body)
		if err != nil {
			return nil, err
		}
		for line := range bytes.SplitSeq(text, []byte("\n")) {
			if line = bytes.TrimSpace(line); len(line) > 0 {
				list = append(list, string(line))
			}
		}
	} else {
		var body api.AddressList
		if err := request.JSON(c, &body, false); err != nil {
			return nil, err
		}
		list = body.Addresses
	}
	return list, lookup.Check(list)
}

func (h *handlers) getRange(c *gin.Context) {
	answer, err := h.Atlas.Lookup.Range(c.Query("range"))
	h.replyList(c, "shares", answer, err)
}

// explainTrail explains a request that somebody reports, or the one it is asked with.
func (h *handlers) explainTrail(c *gin.Context) {
	var body api.TrailRequest
	if err := request.JSON(c, &body, true); err != nil {
		h.fail(c, err)
		return
	}
	if body.Text != nil {
		pasted, err := caller.ParsePasted(*body.Text)
		if err != nil {
			h.fail(c, invalid.Field("text", err.Error(), "Paste header lines, the output of curl -v, or a HAR file."))
			return
		}
		body.Headers = pasted
	}
	finder := h.Public.Proxies.Finder
	from, header, err := visits.Seen(body.Peer, body.Headers, peer(c.Request), c.Request.Header)
	if err == nil && body.Settings != nil {
		if finder, err = h.Public.Proxies.Try(*body.Settings); err != nil {
			err = invalid.Field("settings", err.Error(), "Write them as under proxies in the configuration.")
		}
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, finder.Find(from, header))
}
