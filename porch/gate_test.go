package porch_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/rehearsal"
	"eastporch/internal/core/signed"
	"eastporch/porch"
)

const rules = `
exceptions: {labels: [office], paths: [/early/health]}
gates:
- name: Early entry
  path: /early/**
  mode: on
  list: allow
  missing: {unknown: refuse, skipped: refuse, not_found: refuse, no_data: refuse}
  rules:
  - countries: [PT, NO]
  refusal: {status: 451, texts: {en: Only for two countries.}}
`

func gated(t *testing.T, rules string) (*porch.Porch, error) {
	t.Helper()
	return porch.New(porch.Options{
		Proxies: porch.Proxies{Trusted: []string{"203.0.113.0/28"}}, Open: []string{"198.18.0.0/15"}, Geofeed: strings.NewReader("198.18.3.0/26,PT,PT-11,Lisbon,\n198.19.140.0/24,JP,,,\n"),
		Site: porch.Site{Host: "heronlake.example", Name: "Heron Lake Regatta", Gates: strings.NewReader(rules), Labels: map[string][]string{"office": {"192.0.2.0/24"}}, RehearsalKey: []byte("a key")},
	})
}

func TestTheMiddlewareRefuses(t *testing.T) {
	p, err := gated(t, rules)
	require.NoError(t, err)
	var seen porch.Card
	asked := 0
	site := p.Middleware(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		seen, _ = porch.FromContext(r.Context())
		_, _ = io.WriteString(w, "served, gate "+r.Header.Get("Porch-Gate"))
	}))
	get := func(method, target, from string, header ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, target, nil)
		r.RemoteAddr, r.Host = "203.0.113.4:4711", "heronlake.example"
		r.Header.Set("X-Forwarded-For", from)
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		site.ServeHTTP(w, r)
		return w
	}
	assert.Equal(t, "served, gate admit", get("GET", "/early/eights", "198.18.3.40").Body.String())
	assert.Equal(t, []string{"admit", "Rule 1 of “Early entry” admits visits from Portugal."}, []string{seen.Gate, seen.GateReason})
	asked = 0
	for _, method := range []string{"GET", "HEAD", "POST", "BREW"} {
		for _, target := range []string{"/early/eights", "/%65arly/x", "//early", "/EARLY", "/early/health/x", "/x/../early/eights"} {
			for _, from := range []string{"198.19.140.8", "198.18.3.40, 198.19.140.8", "10.1.2.3", "unknown", "192.0.3.1"} {
				no := get(method, target, from, "Porch-Gate", "admit", "Porch-Rehearsal", "a.b", "X-Forwarded-Host", "a", "Cookie", "porch_pass=a.b")
				require.Equal(t, 451, no.Code, "%s %s from %s", method, target, from)
				require.Contains(t, no.Body.String(), "Only for two countries.")
				require.Equal(t, "private, no-store", no.Header().Get("Cache-Control"))
			}
		}
	}
	assert.Zero(t, asked, "the application is not asked")
	for _, c := range [][2]string{{"/early/health", "198.19.140.8"}, {"/early/eights", "192.0.2.9"}, {"/programme", "unknown"}} {
		assert.Equal(t, http.StatusOK, get("GET", c[0], c[1]).Code)
	}

	key := []byte("a key")
	token := rehearsal.Token{Site: "heronlake.example", Scheme: "http", Host: "heronlake.example", Method: "GET", Target: "/early/eights", Number: "n", Expires: time.Now().Add(time.Minute).Unix(), As: rehearsal.Persona{Address: "198.18.3.40", Languages: "pt"}}
	as := get("GET", "/early/eights", "198.19.140.8", rehearsal.Header, signed.Sign(token, key))
	assert.Equal(t, []any{http.StatusOK, "no-store", "1", true, "PT"}, []any{as.Code, as.Header().Get("Cache-Control"), as.Header().Get(rehearsal.Header), seen.Rehearsed, seen.CountryCode})
	assert.Equal(t, 451, get("GET", "/early/eights", "198.19.140.8", rehearsal.Header, signed.Sign(token, key)).Code, "once")
	for _, edit := range []func(*rehearsal.Token){
		func(t *rehearsal.Token) { t.Site = "a" }, func(t *rehearsal.Token) { t.Scheme = "https" }, func(t *rehearsal.Token) { t.Host = "a" }, func(t *rehearsal.Token) { t.Method = "POST" },
		func(t *rehearsal.Token) { t.Target = "/early/eights?a" }, func(t *rehearsal.Token) { t.Expires = time.Now().Unix() }, func(t *rehearsal.Token) { t.Number = "" },
	} {
		other := token
		other.Number = "m"
		edit(&other)
		assert.Equal(t, 451, get("GET", "/early/eights", "198.19.140.8", rehearsal.Header, signed.Sign(other, key)).Code, "%+v", other)
	}
	assert.Equal(t, 451, get("GET", "/early/eights", "198.19.140.8", rehearsal.Header, signed.Sign(token, []byte("another"))).Code)
}

func TestRulesThatAreWrong(t *testing.T) {
	for text, want := range map[string]string{
		strings.Replace(rules, "NO]", "UK]", 1):      "gates.0.rules.0.countries.1: \"UK\" is not a country code: did you mean GB?",
		strings.Replace(rules, "office", "ofice", 1): "exceptions.labels.0: \"ofice\" is not a label of yours",
		"gates: 7": "line 1",
	} {
		_, err := gated(t, text)
		require.ErrorContains(t, err, want)
	}
}
