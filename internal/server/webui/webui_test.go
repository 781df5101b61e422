package webui

import (
	"net/http"
	"net/http/httptest"
	"regexp"
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
		"index.html":          {Data: []byte(`<title>console</title><script nonce="__NONCE__">`)},
		"assets/main-1.js":    {Data: []byte("let x")},
		"assets/main-1.js.br": {Data: []byte("brotli")},
		"assets/main-1.js.gz": {Data: []byte("gzip")},
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
	for coding, want := range map[string]string{"gzip, br": "brotli", "gzip;q=1": "gzip", "br;q=0": "let x", "br;q=0.0, gzip;q=0.5": "gzip", "zstd": "let x"} {
		r := httptest.NewRequest(http.MethodGet, "/assets/main-1.js", nil)
		r.Header.Set("Accept-Encoding", coding)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		assert.Equal(t, want, w.Body.String(), coding)
		assert.Contains(t, w.Header().Get("Content-Type"), "javascript")
		assert.Equal(t, "Accept-Encoding", w.Header().Get("Vary"))
	}
	assert.Equal(t, http.StatusNotFound, get(h, "/assets/main-1.js.br").Code)

	one, two := get(h, "/"), get(h, "/")
	nonce := regexp.MustCompile(`nonce-([A-Z2-7]+)'`).FindStringSubmatch(one.Header().Get("Content-Security-Policy"))
	assert.Contains(t, one.Body.String(), `nonce="`+nonce[1]+`"`)
	assert.NotContains(t, two.Body.String(), nonce[1], "every answer has a nonce of its own")

	bare := get(handler{files: fstest.MapFS{}}, "/")
	assert.Contains(t, bare.Body.String(), "make build", "a fresh clone says what to do")
}
