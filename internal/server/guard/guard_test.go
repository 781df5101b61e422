package guard

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/server/problem"
)

// A file that breaks off must not look whole to whoever reads it; any other panic
// is a problem document.
func TestWhatBreaksOffDoesNotLookWhole(t *testing.T) {
	h := &Guard{Checks: Checks{Log: slog.New(slog.DiscardHandler), Fail: func(c *gin.Context, err error) {
		c.Data(problem.From(err).Status, "application/problem+json", []byte("{}"))
	}}}
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.Use(h.recover)
	engine.GET("/file", func(c *gin.Context) {
		_, _ = io.WriteString(c.Writer, "half a file")
		c.Writer.Flush()
		panic(http.ErrAbortHandler)
	})
	engine.GET("/defect", func(*gin.Context) { panic("a defect") })
	server := httptest.NewServer(engine)
	defer server.Close()

	res, err := http.Get(server.URL + "/file")
	require.NoError(t, err)
	_, err = io.ReadAll(res.Body)
	res.Body.Close()
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)

	res, err = http.Get(server.URL + "/defect")
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, http.StatusInternalServerError, res.StatusCode)
	assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
}
