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
	"eastporch/internal/server/secrets"
)

// companionRows are the tables of companions in memory.
type companionRows struct {
	lock     sync.Mutex
	list     []companion.Kept
	revision int64
	asked    int64
}

func (r *companionRows) All(context.Context) ([]companion.Kept, error) {
	r.lock.Lock()
	defer r.lock.Unlock()
	return append([]companion.Kept{}, r.list...), nil
}

func (r *companionRows) Save(_ context.Context, k companion.Kept, revision *int64) error {
	r.lock.Lock()
	defer r.lock.Unlock()
	r.revision++
	k.Revision = r.revision
	for i, have := range r.list {
		if have.Name == k.Name {
			if revision != nil && *revision != have.Revision {
				return companion.ErrChanged
			}
			r.list[i] = k
			return nil
		}
	}
	r.list = append(r.list, k)
	return nil
}

func (r *companionRows) Drop(_ context.Context, _, name string) (bool, error) {
	r.lock.Lock()
	defer r.lock.Unlock()
	for i, have := range r.list {
		if have.Name == name {
			r.list = append(r.list[:i:i], r.list[i+1:]...)
			return true, nil
		}
	}
	return false, nil
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
func newCompanions(rows *companionRows, weather http.Handler, now func() time.Time) *companions.Companions {
	secrets := secrets.Store{Environ: func() []string { return []string{"EASTPORCH_SECRET_WEATHER=" + weatherKey} }}
	return companions.New(companions.Options{
		Rows: rows, Outside: companions.Outside{Out: inProcess{weather}, Inside: true, Secrets: secrets}, Log: slog.New(slog.DiscardHandler), Now: now,
	})
}

// weatherKey is the secret of the weather in the tests.
const weatherKey = "made-up-key-of-the-tests"
