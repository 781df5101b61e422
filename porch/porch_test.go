package porch_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/handover"
	"eastporch/internal/files/edition"
	"eastporch/porch"
)

func request(peer, forwarded string) *http.Request {
	r := httptest.NewRequest(http.MethodGet, "/", nil)
	r.RemoteAddr = peer
	if forwarded != "" {
		r.Header.Set("X-Forwarded-For", forwarded)
	}
	return r
}

func Example() {
	p, err := porch.New(porch.Options{Proxies: porch.Proxies{Trusted: []string{"203.0.113.0/28"}}})
	if err != nil {
		panic(err)
	}
	address, ok := p.Visitor(request("203.0.113.4:4711", "192.0.2.10, 198.18.7.114, 203.0.113.10"))
	fmt.Println(address, ok)
	// Output: 198.18.7.114 true
}

func ExamplePorch_Middleware() {
	p, err := porch.New(porch.Options{
		Proxies: porch.Proxies{Trusted: []string{"203.0.113.0/28"}},
		Open:    []string{"198.18.0.0/15"}, // sample addresses are special
		Geofeed: strings.NewReader("198.18.3.0/26,PT,PT-11,Lisbon,\n"),
	})
	if err != nil {
		panic(err)
	}
	page := p.Middleware(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		card, _ := porch.FromContext(r.Context())
		fmt.Println(card.City, card.TimeZone, card.CurrencyCode)
	}))
	page.ServeHTTP(httptest.NewRecorder(), request("203.0.113.4:4711", "198.18.3.40"))
	// Output: Lisbon Europe/Lisbon EUR
}

func TestVisitor(t *testing.T) {
	careless, err := porch.New(porch.Options{})
	require.NoError(t, err)
	address, ok := careless.Visitor(request("203.0.113.4:4711", "198.18.7.114"))
	assert.True(t, ok)
	assert.Equal(t, "203.0.113.4", address.String(), "nobody is trusted by default")
	p, err := porch.New(porch.Options{Proxies: porch.Proxies{Trusted: []string{"203.0.113.0/28", "unix"}}})
	require.NoError(t, err)
	for peer, want := range map[string]string{"203.0.113.4:1": "198.18.7.114", "[::ffff:203.0.113.4]:1": "198.18.7.114", "@": "198.18.7.114", "198.18.9.9:1": "198.18.9.9"} {
		address, ok := p.Visitor(request(peer, "198.18.7.114"))
		assert.True(t, ok, peer)
		assert.Equal(t, want, address.String(), peer)
	}
	_, ok = p.Visitor(request("203.0.113.4:1", "unknown"))
	assert.False(t, ok)
	assert.Contains(t, p.Trail(request("203.0.113.4:1", "unknown")).Reason, "Not found")
	_, ok = porch.FromContext(t.Context())
	assert.False(t, ok)
	for _, bad := range []porch.Options{{Proxies: porch.Proxies{Trusted: []string{"x"}}}, {Open: []string{"10.0.0.1/8"}}, {Proxies: porch.Proxies{Hops: 2}}, {Geofeed: strings.NewReader("nonsense\nx\n")}} {
		_, err := porch.New(bad)
		assert.Error(t, err)
	}
}

func TestAnEditionFileAnswers(t *testing.T) {
	source, err := source.ReadGeofeed(strings.NewReader("198.18.3.0/26,PT,PT-11,Lisbon,\n"), atlas.About{Name: "feed", Rank: 1})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "x.edition")
	require.NoError(t, edition.Write(atlas.New(source), file))
	p, err := porch.New(porch.Options{Edition: file, Open: []string{"198.18.0.0/15"}})
	require.NoError(t, err)
	r := httptest.NewRequest(http.MethodGet, "/", nil)
	r.RemoteAddr = "198.18.3.40:1234"
	assert.Equal(t, "Lisbon", p.Card(r).City)
	_, err = porch.New(porch.Options{Edition: file + ".gone"})
	require.Error(t, err)
}

func TestMiddlewareHandsOnAndRemoves(t *testing.T) {
	p, err := porch.New(porch.Options{
		Proxies: porch.Proxies{Trusted: []string{"127.0.0.1/32"}}, Open: []string{"198.18.0.0/15"}, Geofeed: strings.NewReader("198.18.3.0/26,PT,PT-11,Lisbon,\n"),
		Site: porch.Site{Languages: []string{"en", "pt-PT", "fr"}},
	})
	require.NoError(t, err)
	var got http.Header
	handler := p.Middleware(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got = r.Header }))
	r := httptest.NewRequest(http.MethodGet, "/", nil)
	r.RemoteAddr = "127.0.0.1:50000"
	r.Header.Set("X-Forwarded-For", "198.18.3.40")
	r.Header.Set("Porch-Gate", "refuse")
	r.Header["Porch-Anything"] = []string{"forged"}
	handler.ServeHTTP(httptest.NewRecorder(), r)
	assert.Equal(t, []string{"PT", "pt-PT", "EUR", "Europe/Lisbon", "admit", ""},
		[]string{got.Get("Porch-Country-Code"), got.Get("Porch-Language"), got.Get("Porch-Currency-Code"), got.Get("Porch-Time-Zone"), got.Get("Porch-Gate"), got.Get("Porch-Anything")})
	assert.Equal(t, "refuse", r.Header.Get("Porch-Gate"), "the caller's request stays as it is")

	// Whatever an application server behind this one would read as a field of ours, or of a
	// proxy's.
	r.Header.Set("X-Real-Ip", "8.8.8.8")
	r.Header.Set("Connection", "Porch-Gate, Upgrade")
	for _, mark := range "!#$%&'*+.^_`|~" {
		for _, name := range []string{"Porch-Gate", "PORCH-Unheard-Of", "X-Forwarded-For", "forwarded", "x-real-ip"} {
			if other := strings.ReplaceAll(name, "-", string(mark)); other != "forwarded" {
				r.Header[other] = []string{"forged"}
			}
		}
	}
	handler.ServeHTTP(httptest.NewRecorder(), r)
	for name, values := range got {
		assert.NotContains(t, values, "forged", name)
	}
	assert.Equal(t, []string{"198.18.3.40", "", "Upgrade"}, []string{got.Get("X-Forwarded-For"), got.Get("X-Real-Ip"), got.Get("Connection")})
	stranger := r.Clone(t.Context())
	stranger.RemoteAddr = "198.18.9.9:1"
	handler.ServeHTTP(httptest.NewRecorder(), stranger)
	assert.Empty(t, got.Get("X-Forwarded-For"), "no trusted proxy wrote it")

	r.AddCookie(&http.Cookie{Name: porch.ChoiceCookie, Value: "fr"})
	handler.ServeHTTP(httptest.NewRecorder(), r)
	assert.Equal(t, "fr", got.Get("Porch-Language"), "the visitor's choice wins")

	facts := handover.Facts{CountryCode: "PT"}
	key := []byte("a key")
	opened, err := porch.OpenCookie(handover.Sign(facts, key, time.Now().Add(time.Minute)), key)
	require.NoError(t, err)
	assert.Equal(t, "PT", opened.CountryCode)
	_, err = porch.New(porch.Options{Site: porch.Site{Languages: []string{"!"}}})
	assert.ErrorContains(t, err, "languages:")
}
