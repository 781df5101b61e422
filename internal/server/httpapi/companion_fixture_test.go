package httpapi

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync"
	"time"

	"eastporch/internal/core/companion"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/secrets"
)

// companionRows is what companions were asked, in memory.
type companionRows struct {
	lock  sync.Mutex
	asked int64
}

func (r *companionRows) Claim(_ context.Context, _, _ string, c companion.Claim) (companion.Spent, bool, error) {
	r.lock.Lock()
	defer r.lock.Unlock()
	ok := r.asked < c.MostDay
	if ok {
		r.asked++
	}
	return companion.Spent{Day: c.Day, Asked: r.asked, Minute: c.Minute, AskedInMinute: 1}, ok, nil
}

func (r *companionRows) Spent(context.Context) (map[[2]string]companion.Spent, error) {
	return map[[2]string]companion.Spent{}, nil
}

// inProcess answers requests by a handler.
type inProcess struct{ handler http.Handler }

func (o inProcess) Once(r *http.Request, most int64) (*http.Response, []byte, error) {
	out := httptest.NewRecorder()
	o.handler.ServeHTTP(out, r)
	body := out.Body.Bytes()
	return out.Result(), body[:min(int64(len(body)), most)], nil
}

// newCompanions makes the service over tables in memory, which asks the weather in process.
func newCompanions(rows *companionRows, docs *documents.Documents, running func(string) *companions.Site, weather http.Handler, now func() time.Time) *companions.Companions {
	secrets := secrets.Store{Environ: func() []string { return []string{"EASTPORCH_SECRET_WEATHER=" + weatherKey} }}
	return companions.New(companions.Options{
		Rows: rows, Documents: docs, Running: running, Outside: companions.Outside{Out: inProcess{weather}, Inside: true, Secrets: secrets}, Log: slog.New(slog.DiscardHandler), Now: now,
	})
}

// weatherKey is the secret of the weather in the tests.
const weatherKey = "made-up-key-of-the-tests"
