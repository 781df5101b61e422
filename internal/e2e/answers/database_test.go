package answers

import (
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/server/cluster"
	"eastporch/internal/testkit/live"
)

// While the database is away visits are accepted and look-ups go on; questions
// get a problem that says when to try again.
func TestTheDatabaseGoesAway(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "eastporch-away-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) // the database may run as another user
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	database, err := cluster.Start(t.Context(), cluster.Options{Dir: filepath.Join(dir, "c"), Log: slog.New(slog.DiscardHandler), Throwaway: true})
	require.NoError(t, err)
	s := live.Start(t, map[string]any{"database.url": database.URL()})
	post := func() live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", live.VisitBody("203.0.113.4", "198.18.3.40"))
	}
	assert.Equal(t, http.StatusAccepted, post().Status)
	newLink := func(code string) int {
		return s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/links", `{"destination":"/en/tickets","code":"`+code+`"}`).Status
	}
	require.Equal(t, http.StatusCreated, newLink("tickets"))
	require.NoError(t, database.Stop(t.Context()))

	assert.Equal(t, http.StatusAccepted, post().Status, "visits wait on the disk")
	waiting := func() float64 {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/readyz", "").At(t, "intake.waiting").(float64)
	}
	before := waiting()
	for range 3 {
		followed := s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/to/tickets", "")
		assert.Equal(t, http.StatusFound, followed.Status, "links are followed from memory")
	}
	assert.Eventually(t, func() bool { return waiting() == before+3 }, 10*time.Minute, 20*time.Millisecond, "and clicks wait with the visits")
	assert.Equal(t, http.StatusNotFound, s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/to/others", "").Status)
	assert.Equal(t, http.StatusServiceUnavailable, newLink("others"))
	ready := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/readyz", "")
	assert.Equal(t, http.StatusOK, ready.Status)
	assert.Equal(t, "does not answer", ready.At(t, "database"))
	assert.Equal(t, http.StatusOK, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/livez", "").Status)
	assert.Equal(t, http.StatusOK, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/198.18.3.40", "").Status, "keys are in memory")
	list := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=heronlake.example", "")
	assert.Equal(t, http.StatusServiceUnavailable, list.Status)
	assert.Equal(t, "/problems/database-unavailable", list.At(t, "type"))
	assert.NotEmpty(t, list.Header.Get("Retry-After"))
}
