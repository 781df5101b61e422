package httpapi

import (
	"context"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"eastporch/internal/core/notice"
	"eastporch/internal/server/access"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/secrets"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/store/noticerows"
)

// noticeRows have no messages; what else may be asked of them has tests of its own.
type noticeRows struct{ *noticerows.Rows }

func (noticeRows) Healths(context.Context) (map[[2]string]notice.HealthOf, error) { return nil, nil }

func (noticeRows) Message(context.Context, string, uuid.UUID) (notice.Letter, error) {
	return notice.Letter{}, notice.ErrNoMessage
}

func newNotices(docs *documents.Documents, known *sites.Sites, now func() time.Time) *notices.Notices {
	return notices.New(notices.Options{
		Rows: noticeRows{}, Documents: docs, Running: func() *notices.Settings { return &notices.Settings{Documents: docs.Set(), Sites: known} }, Secret: []byte("a secret"), Log: slog.New(slog.DiscardHandler), Now: now,
		Outside: notices.Outside{Secrets: secrets.Store{Environ: func() []string { return nil }}, PublicURL: func() string { return "" }, ConsoleURL: func() string { return "" }},
	})
}

// TestNoticesThatThereAreNot: each operation says what is not there, and links in mails show a page.
func TestNoticesThatThereAreNot(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	admin, public, key := f.serve(t, AdminListener), f.serve(t, PublicListener), f.key(t, access.Admin)
	id := "01980000-0000-7000-8000-000000000000"
	refusedAs(t, ask(public, f.key(t, access.Page), http.MethodPost, "/v1/notices/where-is/ask", `{"address":"198.18.3.40","to":"a@b.example"}`), http.StatusNotFound, "no-such-notice")
	refusedAs(t, ask(admin, key, http.MethodGet, "/v1/messages/"+id, ""), http.StatusNotFound, "no-such-message")
	refusedAs(t, ask(admin, key, http.MethodGet, "/v1/messages/odd", ""), http.StatusNotFound, "no-such-message")
	refusedAs(t, ask(admin, key, http.MethodDelete, "/v1/messages/"+id, ""), http.StatusNotFound, "no-such-message")
	refusedAs(t, ask(admin, key, http.MethodPost, "/v1/messages/"+id+"/resend", ""), http.StatusNotFound, "no-such-message")
	refusedAs(t, ask(admin, key, http.MethodGet, "/v1/messages?before=odd", ""), http.StatusUnprocessableEntity, "invalid-field")
	refusedAs(t, ask(admin, key, http.MethodPut, "/v1/channels/Odd", `{"said":{"kind":"mail"}}`), http.StatusUnprocessableEntity, "invalid-field")
	for _, method := range []string{http.MethodGet, http.MethodPost} {
		page := ask(public, "", method, "/mail?token=nonsense", "")
		assert.Equal(t, http.StatusNotFound, page.status)
		assert.Contains(t, page.body, "This link is not good any more.")
		assert.Contains(t, page.header.Get("Content-Security-Policy"), "form-action 'self'")
		assert.True(t, strings.HasPrefix(page.header.Get("Content-Type"), "text/html"))
	}
}
