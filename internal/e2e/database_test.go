package e2e

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
	s := start(t, map[string]any{"database.url": database.URL()})
	post := func() answer {
		return s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/visits", visitBody("203.0.113.4", "198.18.3.40"))
	}
	assert.Equal(t, http.StatusAccepted, post().status)
	newLink := func(code string) int {
		return s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/links", `{"destination":"/en/tickets","code":"`+code+`"}`).status
	}
	require.Equal(t, http.StatusCreated, newLink("tickets"))
	require.NoError(t, database.Stop(t.Context()))

	assert.Equal(t, http.StatusAccepted, post().status, "visits wait on the disk")
	waiting := func() float64 {
		return s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/readyz", "").at(t, "intake.waiting").(float64)
	}
	before := waiting()
	for range 3 {
		followed := s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/to/tickets", "")
		assert.Equal(t, http.StatusFound, followed.status, "links are followed from memory")
	}
	assert.Eventually(t, func() bool { return waiting() == before+3 }, time.Minute, 20*time.Millisecond, "and clicks wait with the visits")
	assert.Equal(t, http.StatusNotFound, s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/to/others", "").status)
	assert.Equal(t, http.StatusServiceUnavailable, newLink("others"))
	ready := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/readyz", "")
	assert.Equal(t, http.StatusOK, ready.status)
	assert.Equal(t, "does not answer", ready.at(t, "database"))
	assert.Equal(t, http.StatusOK, s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/livez", "").status)
	assert.Equal(t, http.StatusOK, s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/addresses/198.18.3.40", "").status, "keys are in memory")
	list := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/visits?site=heronlake.example", "")
	assert.Equal(t, http.StatusServiceUnavailable, list.status)
	assert.Equal(t, "/problems/database-unavailable", list.at(t, "type"))
	assert.NotEmpty(t, list.header.Get("Retry-After"))
}
