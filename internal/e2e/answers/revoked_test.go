package answers

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
	"eastporch/internal/testkit/live"
)

// cookieOf gives the beginning of a header line with the service's cookie.
func cookieOf(t *testing.T, s *live.Service) string {
	t.Helper()
	cookie, _ := s.SignIn(t, s.Admin)
	name, _, _ := strings.Cut(cookie, "=")
	return name + "="
}

// A session dies with the key that opened it, everywhere, and what was made with a key is
// listed and ended on demand.
func TestARevokedKeyTakesItsSessionsAlong(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	s, other := live.Start(t, map[string]any{"database.url": database}), live.Start(t, map[string]any{"database.url": database})
	s.Admin = other.Admin // the second start made it anew
	var err error
	s.Client, err = client.New(s.AdminURL, s.Admin, s.Contract)
	require.NoError(t, err)
	known := func(s *live.Service, key string) func() bool {
		return func() bool {
			return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/keys", "", "Authorization: Bearer "+key).Status == http.StatusOK
		}
	}
	require.Eventually(t, known(s, s.Admin), 10*time.Minute, 50*time.Millisecond)
	stolen, err := s.Client.CreateKey(t.Context(), keys.NewKey{Name: "stolen", Scope: "admin"})
	require.NoError(t, err)
	require.Eventually(t, known(other, stolen.Secret), 10*time.Minute, 50*time.Millisecond)
	cookie, _ := s.SignIn(t, stolen.Secret)
	at := func(s *live.Service, method, path, body string) live.Answer {
		return s.Call(t, "127.0.0.1", method, s.AdminURL+path, body, live.Anonymous, cookie, "Origin: "+s.AdminURL)
	}
	require.Equal(t, http.StatusOK, at(other, http.MethodGet, "/v1/sessions", "").Status, "instances of one installation share sessions")

	// With the session, a key; with that key, another.
	second := live.Parse[struct {
		Key    keys.Key
		Secret string
	}](t, at(s, http.MethodPost, "/v1/keys", `{"name":"second","scope":"admin"}`))
	assert.Equal(t, "session by key stolen", second.Key.Maker.Name)
	third := live.Parse[struct{ Secret string }](t, s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/keys", `{"name":"third","scope":"server"}`, "Authorization: Bearer "+second.Secret))
	made := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/keys/"+stolen.Key.ID.String()+"/made", "")
	list := live.Parse[access.Made](t, made)
	require.Len(t, list.Keys, 2, made.Body)
	assert.Equal(t, "third", list.Keys[0].Name)
	require.Len(t, list.Sessions, 1)

	// A stream that is open ends, too, here and elsewhere.
	var streams sync.WaitGroup
	for _, at := range []*live.Service{s, other} {
		for _, header := range [][2]string{{"Authorization", "Bearer " + stolen.Secret}, {"Cookie", strings.TrimPrefix(cookie, "Cookie: ")}} {
			req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, at.AdminURL+"/v1/visits/stream?site=heronlake.example", nil)
			require.NoError(t, err)
			req.Header.Set(header[0], header[1])
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			require.Equal(t, http.StatusOK, res.StatusCode)
			streams.Go(func() { _, _ = io.Copy(io.Discard, res.Body) })
			defer res.Body.Close()
		}
	}
	code, _, errs := live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "keys", "revoke", stolen.Key.ID.String())
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, errs, "made with it and are still in force")
	assert.Equal(t, http.StatusUnauthorized, at(s, http.MethodGet, "/v1/sessions", "").Status, "here at once")
	assert.Equal(t, http.StatusUnauthorized, at(s, http.MethodPost, "/v1/keys", `{"name":"late","scope":"admin"}`).Status)
	assert.Eventually(t, func() bool { return at(other, http.MethodGet, "/v1/sessions", "").Status == http.StatusUnauthorized }, 10*time.Minute, 20*time.Millisecond, "elsewhere within two seconds")
	streams.Wait() // a stream that goes on ends the whole test
	as := func(secret string) int {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/198.18.3.40", "", "Authorization: Bearer "+secret).Status
	}
	assert.Equal(t, []int{http.StatusUnauthorized, http.StatusOK, http.StatusOK}, []int{as(stolen.Secret), as(second.Secret), as(third.Secret)})

	code, _, errs = live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "keys", "revoke", stolen.Key.ID.String(), "--with-made")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, errs, "Revoked: 2.")
	assert.Equal(t, []int{http.StatusUnauthorized, http.StatusUnauthorized}, []int{as(second.Secret), as(third.Secret)})
	bad := s.Call(t, "127.0.0.1", http.MethodDelete, s.AdminURL+"/v1/keys/"+stolen.Key.ID.String()+"?made=all", "")
	assert.Equal(t, http.StatusUnprocessableEntity, bad.Status)
}

// Cookies know no ports: that of one installation is not that of another on the same host.
func TestTwoInstallationsOnOneHost(t *testing.T) {
	t.Parallel()
	one, two := live.Start(t, nil), live.Start(t, nil)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	do := func(s *live.Service, method, path, body string) int {
		req, err := http.NewRequestWithContext(t.Context(), method, s.AdminURL+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Origin", s.AdminURL)
		req.Header.Set("Content-Type", "application/json")
		res, err := browser.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		return res.StatusCode
	}
	for _, s := range []*live.Service{one, two} {
		require.Equal(t, http.StatusCreated, do(s, http.MethodPost, "/v1/sessions", fmt.Sprintf(`{"key":%q}`, s.Admin)))
	}
	at, err := url.Parse(one.AdminURL)
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
	s := live.Start(t, map[string]any{"admin.origins": []any{"https://console.heronlake.example"}, "admin.hosts": []any{"other.heronlake.example"}})
	cookie, set := s.SignIn(t, s.Admin, "Host: console.heronlake.example", "Origin: https://console.heronlake.example")
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
		header := []string{live.Anonymous, cookie, "Host: " + tt.host}
		if tt.origin != "" {
			header = append(header, "Origin: "+tt.origin)
		}
		if tt.site != "" {
			header = append(header, "Sec-Fetch-Site: "+tt.site)
		}
		got := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/keys", `{"name":"x","scope":"server"}`, header...)
		want := http.StatusForbidden
		if tt.allowed {
			want = http.StatusCreated
		}
		assert.Equal(t, want, got.Status, "%+v: %s", tt, got.Body)
	}
}
