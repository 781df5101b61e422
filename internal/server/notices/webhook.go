package notices

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"eastporch/internal/core/notice"
)

const (
	postWithin = 10 * time.Second
	mostAnswer = 64 << 10 // bytes of a webhook's answer that are read
)

// post posts a message to a webhook, signed.
func (n *Notices) post(ctx context.Context, k *notice.KeptChannel, l *notice.Letter, key string) outcome {
	body, err := json.Marshal(notice.Payload{ID: l.ID.String(), Time: l.Created, Site: l.Site, Notice: l.Notice, Test: l.Test, Subject: l.Subject, Text: l.Text, HTML: l.HTML, Facts: l.Facts})
	if err != nil {
		return outcome{refused, err.Error(), 0}
	}
	ctx, cancel := begun(ctx, cmp.Or(n.Within, postWithin))
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, k.Said.URL, bytes.NewReader(body))
	if err != nil {
		return outcome{refused, err.Error(), 0}
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", "EastPorch")
	for name, value := range notice.Signature(l.ID.String(), body, []byte(key), k.Name, n.Now()) {
		request.Header.Set(name, value)
	}
	answer, _, err := n.Post.Once(request, mostAnswer)
	if answer == nil {
		return outcome{away, whyNot(ctx, err, "the webhook"), 0}
	}
	says := fmt.Sprintf("the webhook answered %d", answer.StatusCode)
	switch code := answer.StatusCode; {
	case code >= 200 && code <= 299:
		return outcome{taken, says, 0} // whatever comes with it, or does not
	case code == http.StatusGone:
		return outcome{gone, says + ", gone for good", 0}
	case code >= 300 && code <= 399:
		return outcome{refused, says + ": redirects are not followed; save the channel with the address that it leads to", 0}
	case code == http.StatusRequestTimeout, code == http.StatusTooEarly, code == http.StatusTooManyRequests, code >= 500:
		return outcome{away, says, retryAfter(answer.Header.Get("Retry-After"), n.Now())}
	}
	return outcome{refused, says, 0}
}

// retryAfter reads the field of RFC 9110, section 10.2.3; 0 for none.
func retryAfter(text string, now time.Time) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil {
		return time.Duration(min(max(seconds, 0), int(longestAfter.Seconds()))) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, at.Sub(now))
	}
	return 0
}

// whyNot words why somebody was not reached.
func whyNot(ctx context.Context, err error, who string) string {
	if isLate(ctx, err) {
		return who + " did not answer in time"
	}
	var at *url.Error
	if errors.As(err, &at) { // it would repeat the whole address
		err = at.Err
	}
	if err == nil {
		return who + " did not answer"
	}
	text, _, _ := strings.Cut(err.Error(), ", affected ") // which would name the recipient
	return who + " was not reached: " + text
}

// isLate says whether somebody took too long; the library of mails keeps its causes as text.
func isLate(ctx context.Context, err error) bool {
	return errors.Is(ctx.Err(), context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) || err != nil && strings.Contains(err.Error(), "i/o timeout")
}
