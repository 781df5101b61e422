package webui

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
)

func get(h http.Handler, path string) *httptest.ResponseRecorder {
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
	return w
}

func TestHandler(t *testing.T) {
	h := handler{files: fstest.MapFS{
		"index.html":       {Data: []byte("<title>console</title>")},
		"assets/main-1.js": {Data: []byte("let x")},
	}}
	for _, path := range []string{"/", "/visits", "/lookup?address=1", "/assets", "/../../etc/passwd", "/index.html"} {
		w := get(h, path)
		assert.Contains(t, w.Body.String(), "console", path)
		assert.Equal(t, "no-store", w.Header().Get("Cache-Control"))
	}
	asset := get(h, "/assets/main-1.js")
	assert.Equal(t, "let x", asset.Body.String())
	assert.Contains(t, asset.Header().Get("Cache-Control"), "immutable")
	for _, path := range []string{"/assets/", "/assets/none.js", "/assets/%2e%2e/%2e%2e/go.mod"} {
		assert.NotEqual(t, "let x", get(h, path).Body.String())
		assert.NotContains(t, get(h, path).Body.String(), "module eastporch")
	}
	assert.Equal(t, http.StatusNotFound, get(h, "/assets/none.js").Code)
	bare := get(handler{files: fstest.MapFS{}}, "/")
	assert.Contains(t, bare.Body.String(), "make build", "a fresh clone says what to do")
}
