package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/keys"
	"eastporch/internal/server/access"
	"eastporch/internal/testkit/db"
)

// signIn signs in with a key and gives the header line of the session's cookie.
func (s *service) signIn(t *testing.T, key string, header ...string) (cookie string, set string) {
	t.Helper()
	in := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/sessions", fmt.Sprintf(`{"key":%q}`, key), append(header, anonymous)...)
	require.Equal(t, http.StatusCreated, in.status, in.body)
	set = in.header.Get("Set-Cookie")
	return "Cookie: " + strings.Split(set, ";")[0], set
}

// cookieOf gives the beginning of a header line with the service's cookie.
func cookieOf(t *testing.T, s *service) string {
	t.Helper()
	cookie, _ := s.signIn(t, s.admin)
	name, _, _ := strings.Cut(cookie, "=")
	return name + "="
}

// A session dies with the key that opened it, everywhere, and what was made with a key is
// listed and ended on demand.
func TestARevokedKeyTakesItsSessionsAlong(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	s, other := start(t, map[string]any{"database.url": database}), start(t, map[string]any{"database.url": database})
	s.admin = other.admin // the second start made it anew
	var err error
	s.client, err = client.New(s.adminURL, s.admin, s.contract)
	require.NoError(t, err)
	known := func(s *service, key string) func() bool {
		return func() bool {
			return s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/keys", "", "Authorization: Bearer "+key).status == http.StatusOK
		}
	}
	require.Eventually(t, known(s, s.admin), 10*time.Second, 50*time.Millisecond)
	stolen, err := s.client.CreateKey(t.Context(), keys.NewKey{Name: "stolen", Scope: "admin"})
	require.NoError(t, err)
	require.Eventually(t, known(other, stolen.Secret), 10*time.Second, 50*time.Millisecond)
	cookie, _ := s.signIn(t, stolen.Secret)
	at := func(s *service, method, path, body string) answer {
		return s.call(t, "127.0.0.1", method, s.adminURL+path, body, anonymous, cookie, "Origin: "+s.adminURL)
	}
	require.Equal(t, http.StatusOK, at(other, http.MethodGet, "/v1/sessions", "").status, "instances of one installation share sessions")

	// With the session, a key; with that key, another.
	second := parse[struct {
		Key    keys.Key
		Secret string
	}](t, at(s, http.MethodPost, "/v1/keys", `{"name":"second","scope":"admin"}`))
	assert.Equal(t, "session by key stolen", second.Key.Maker.Name)
	third := parse[struct{ Secret string }](t, s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/keys", `{"name":"third","scope":"server"}`, "Authorization: Bearer "+second.Secret))
	made := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/keys/"+stolen.Key.ID.String()+"/made", "")
	list := parse[access.Made](t, made)
	require.Len(t, list.Keys, 2, made.body)
	assert.Equal(t, "third", list.Keys[0].Name)
	require.Len(t, list.Sessions, 1)

	// A stream that is open ends, too, here and elsewhere.
	var streams sync.WaitGroup
	for _, at := range []*service{s, other} {
		for _, header := range [][2]string{{"Authorization", "Bearer " + stolen.Secret}, {"Cookie", strings.TrimPrefix(cookie, "Cookie: ")}} {
			req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, at.adminURL+"/v1/visits/stream?site=heronlake.example", nil)
			require.NoError(t, err)
			req.Header.Set(header[0], header[1])
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			require.Equal(t, http.StatusOK, res.StatusCode)
			streams.Go(func() { _, _ = io.Copy(io.Discard, res.Body) })
			defer res.Body.Close()
		}
	}
	code, _, errs := run(t, "", "--server", s.adminURL, "--key", s.admin, "keys", "revoke", stolen.Key.ID.String())
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, errs, "made with it and are still in force")
	assert.Equal(t, http.StatusUnauthorized, at(s, http.MethodGet, "/v1/sessions", "").status, "here at once")
	assert.Equal(t, http.StatusUnauthorized, at(s, http.MethodPost, "/v1/keys", `{"name":"late","scope":"admin"}`).status)
	assert.Eventually(t, func() bool { return at(other, http.MethodGet, "/v1/sessions", "").status == http.StatusUnauthorized }, 2*time.Second, 20*time.Millisecond, "elsewhere within two seconds")
	streams.Wait() // a stream that goes on ends the whole test
	as := func(secret string) int {
		return s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/addresses/198.18.3.40", "", "Authorization: Bearer "+secret).status
	}
	assert.Equal(t, []int{http.StatusUnauthorized, http.StatusOK, http.StatusOK}, []int{as(stolen.Secret), as(second.Secret), as(third.Secret)})

	code, _, errs = run(t, "", "--server", s.adminURL, "--key", s.admin, "keys", "revoke", stolen.Key.ID.String(), "--with-made")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, errs, "Revoked: 2.")
	assert.Equal(t, []int{http.StatusUnauthorized, http.StatusUnauthorized}, []int{as(second.Secret), as(third.Secret)})
	bad := s.call(t, "127.0.0.1", http.MethodDelete, s.adminURL+"/v1/keys/"+stolen.Key.ID.String()+"?made=all", "")
	assert.Equal(t, http.StatusUnprocessableEntity, bad.status)
}

// Cookies know no ports: that of one installation is not that of another on the same host.
func TestTwoInstallationsOnOneHost(t *testing.T) {
	t.Parallel()
	one, two := start(t, nil), start(t, nil)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	do := func(s *service, method, path, body string) int {
		req, err := http.NewRequestWithContext(t.Context(), method, s.adminURL+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Origin", s.adminURL)
		req.Header.Set("Content-Type", "application/json")
		res, err := browser.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		return res.StatusCode
	}
	for _, s := range []*service{one, two} {
		require.Equal(t, http.StatusCreated, do(s, http.MethodPost, "/v1/sessions", fmt.Sprintf(`{"key":%q}`, s.admin)))
	}
	at, err := url.Parse(one.adminURL)
	require.NoError(t, err)
	assert.Len(t, jar.Cookies(at), 2)
	assert.Equal(t, http.StatusNoContent, do(two, http.MethodDelete, "/v1/sessions/current", ""))
	assert.Equal(t, http.StatusOK, do(one, http.MethodGet, "/v1/sessions", ""), "signed out there, and not here")
	assert.Equal(t, http.StatusUnauthorized, do(two, http.MethodGet, "/v1/sessions", ""))
}

// What changes something in a session comes from an origin of the console's: its own, as a
// browser reached it, or one that the configuration names.
func TestOriginsOfTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t, map[string]any{"admin.origins": []any{"https://console.heronlake.example"}, "admin.hosts": []any{"other.heronlake.example"}})
	cookie, set := s.signIn(t, s.admin, "Host: console.heronlake.example", "Origin: https://console.heronlake.example")
	assert.Contains(t, set, "Secure", "the browser speaks TLS to the proxy")
	for _, tt := range []struct {
		host, origin, site string
		allowed            bool
	}{
		{"console.heronlake.example", "https://console.heronlake.example", "", true},
		{"console.heronlake.example", "https://console.heronlake.example", "same-origin", true},
		{"console.heronlake.example", "https://console.heronlake.example:8443", "", false},
		{"other.heronlake.example", "https://other.heronlake.example", "", false},
		{"other.heronlake.example", "http://other.heronlake.example", "", true},
		{"localhost:9000", "http://localhost:9000", "", true}, // a forwarded port
		{"localhost:9000", "http://localhost:9001", "", false},
		{"localhost:9000", "https://localhost:9000", "", false},
		{"localhost:9000", "https://evil.example", "", false},
		{"localhost:9000", "https://evil.example", "same-origin", false},
		{"localhost:9000", "http://localhost:9000", "same-site", false},
		{"localhost:9000", "null", "", false},
		{"localhost:9000", "", "", false},
		{"localhost:9000", "", "same-origin", true},
	} {
		header := []string{anonymous, cookie, "Host: " + tt.host}
		if tt.origin != "" {
			header = append(header, "Origin: "+tt.origin)
		}
		if tt.site != "" {
			header = append(header, "Sec-Fetch-Site: "+tt.site)
		}
		got := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/keys", `{"name":"x","scope":"server"}`, header...)
		want := http.StatusForbidden
		if tt.allowed {
			want = http.StatusCreated
		}
		assert.Equal(t, want, got.status, "%+v: %s", tt, got.body)
	}
}
