// Package live runs the whole service on loopback for tests, with a real PostgreSQL and the
// regatta's data, and calls it as its users do: over plain HTTP, through the Go client, with the
// command line, in a browser and behind proxies. Begin with [Main] in TestMain, and [Start].
package live

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/client"
	"eastporch/internal/config"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/keys"
	"eastporch/internal/core/visit"
	"eastporch/internal/demo"
	"eastporch/internal/server"
	"eastporch/internal/server/access"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/store"
	"eastporch/internal/testkit/browser"
	"eastporch/internal/testkit/db"
)

// Main runs the tests of a package that start services, for TestMain.
func Main(m *testing.M) {
	code := db.Run(m, db.Model{Each: "UPDATE installation SET id = DEFAULT", Tables: func(ctx context.Context, url string) error {
		s, err := store.Open(ctx, url, 0)
		if err == nil {
			s.Close()
		}
		return err
	}})
	browser.End()
	_ = os.Remove(buildInto) // where it was built at all
	os.Exit(code)
}

// A Service is a running service and the ways into it.
type Service struct {
	PublicURL, AdminURL string
	Database            string
	Dir, Data           string // of the configuration, and of what the service keeps
	Admin               string // an admin key
	Server              *server.Server
	Client              *client.Client
	Contract            *Contract
}

// Start runs a service with the regatta's configuration and a database of its
// own until the test ends. Keys of flags go over the configuration's.
func Start(t testing.TB, flags map[string]any) *Service {
	t.Helper()
	dir := t.TempDir()
	file, err := demo.Write(dir)
	require.NoError(t, err)
	return StartOn(t, file, flags)
}

// StartOn is [Start] with a configuration file.
func StartOn(t testing.TB, file string, flags map[string]any) *Service {
	t.Helper()
	dir, data := filepath.Dir(file), t.TempDir()
	database := db.New(t)
	set := map[string]any{"public.address": "127.0.0.1:0", "admin.address": "127.0.0.1:0", "limits.visitor_per_second": 1000, "database.url": database, "data_dir": data}
	for k, v := range flags {
		set[k] = v
	}
	in := config.Input{File: file, Getenv: func(string) string { return "" }, Flags: set}
	cfg, err := config.Load(in)
	require.NoError(t, err)
	s, err := server.Open(t.Context(), server.Options{
		Config: cfg, Input: in, Log: slog.New(slog.NewTextHandler(t.Output(), nil)), Version: "test",
	})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		require.NoError(t, <-done)
	})
	c := newContract(t)
	svc := &Service{Server: s, PublicURL: s.URL(httpapi.PublicListener), AdminURL: s.URL(httpapi.AdminListener), Database: database, Dir: dir, Data: data, Contract: c}
	svc.Admin, err = s.Key(t.Context(), "the tests", access.Admin)
	require.NoError(t, err)
	svc.Client, err = client.New(svc.AdminURL, svc.Admin, c)
	require.NoError(t, err)
	return svc
}

// Fill sends n of the regatta's visits, and waits until they are stored.
func (s *Service) Fill(t *testing.T, n int) {
	t.Helper()
	require.NoError(t, demo.Send(t.Context(), s.Client, demo.Visits(demo.Seed, n, time.Now()), func(int, int) {}))
	Settled(t, s.AdminURL, s.Admin) // however busy the machine is
}

// An Answer is what came back over plain HTTP.
type Answer struct {
	Status int
	Header http.Header
	Body   string
}

// At gives what stands in JSON under a path of names and places, such as visits.0.path.
func (a Answer) At(t *testing.T, path string) any {
	t.Helper()
	value := Parse[any](t, a)
	for name := range strings.SplitSeq(path, ".") {
		switch of := value.(type) {
		case map[string]any:
			require.Contains(t, of, name, "%s in %s", path, a.Body)
			value = of[name]
		case []any:
			i, err := strconv.Atoi(name)
			require.NoError(t, err, path)
			require.Less(t, i, len(of), "%s in %s", path, a.Body)
			value = of[i]
		default:
			require.Fail(t, "nothing stands there", "%s in %s", path, a.Body)
		}
	}
	return value
}

// Said is what a problem says, and what to do about it.
func (a Answer) Said(t *testing.T) string {
	t.Helper()
	return fmt.Sprintf("%s %s", a.At(t, "detail"), a.At(t, "hint"))
}

// Anonymous in place of a header line sends a request without a key.
const Anonymous = "Anonymous: yes"

// Call sends a request from a loopback address, such as 127.0.0.9, with the
// admin key unless a header line says otherwise, and holds the answer against
// the contract.
func (s *Service) Call(t testing.TB, from, method, url, body string, header ...string) Answer {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+s.Admin)
	for _, line := range header {
		name, value, _ := strings.Cut(line, ": ")
		switch {
		case line == Anonymous:
			req.Header.Del("Authorization")
		case name == "Authorization":
			req.Header.Set(name, value)
		case name == "Host":
			req.Host = value
		default:
			req.Header.Add(name, value)
		}
	}
	if body != "" && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
	transport := &http.Transport{DialContext: dialer.DialContext}
	defer transport.CloseIdleConnections()
	res, err := (&Contract{T: t, Router: s.Contract.Router, Next: transport}).RoundTrip(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return Answer{res.StatusCode, res.Header, string(text)}
}

// A Contract is a transport that fails the test when an answer is not what
// api/openapi.yaml says.
type Contract struct {
	T      testing.TB
	Router routers.Router
	Next   http.RoundTripper
}

// operations finds the operation of the contract that a request is of. It is read once.
var operations = sync.OnceValues(func() (routers.Router, error) {
	doc, err := openapi3.NewLoader().LoadFromData(api.YAML())
	if err != nil {
		return nil, err
	}
	if err := doc.Validate(context.Background()); err != nil {
		return nil, err
	}
	return gorillamux.NewRouter(doc)
})

func newContract(t testing.TB) *Contract {
	t.Helper()
	router, err := operations()
	require.NoError(t, err)
	return &Contract{T: t, Router: router, Next: http.DefaultTransport}
}

// RoundTrip is that of [http.RoundTripper]; it holds the answer against the contract.
func (c *Contract) RoundTrip(req *http.Request) (*http.Response, error) {
	res, err := c.Next.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	route, params, err := c.Router.FindRoute(req)
	if err != nil || res.Header.Get("Content-Type") == "text/event-stream" {
		return res, nil // the console's, or nobody's, or without an end
	}
	text, err := io.ReadAll(res.Body)
	res.Body.Close()
	if err != nil {
		return nil, err
	}
	res.Body = io.NopCloser(bytes.NewReader(text))
	input := &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route},
		Status:                 res.StatusCode, Header: res.Header, Body: io.NopCloser(bytes.NewReader(text)),
		// With fields an answer has a part of what the contract says, and other formats have no schema.
		Options: &openapi3filter.Options{IncludeResponseStatus: true, ExcludeResponseBody: req.URL.Query().Has("fields") || !strings.Contains(strings.Replace(res.Header.Get("Content-Type"), "ndjson", "", 1), "json")},
	}
	if err := openapi3filter.ValidateResponse(context.Background(), input); err != nil {
		c.T.Errorf("%s %s answers %d against the contract: %v", req.Method, req.URL, res.StatusCode, err)
	}
	return res, nil
}

// VisitBody is a visit of the programme, with a peer and an X-Forwarded-For.
func VisitBody(peer, list string) string {
	return fmt.Sprintf(`{"site":"heronlake.example","path":"/programme","peer":%q,"headers":{"X-Forwarded-For":[%q]}}`, peer, list)
}

// Change replaces a part of the configuration.
func (s *Service) Change(t *testing.T, old, new string) {
	t.Helper()
	file := filepath.Join(s.Dir, "eastporch.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), old)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), old, new, 1)), 0o600))
}

// Reload has the service read its configuration again.
func (s *Service) Reload(t *testing.T) Answer {
	t.Helper()
	return s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/reload?force=1", "")
}

// SignIn signs in with a key and gives the header line of the session's cookie.
func (s *Service) SignIn(t *testing.T, key string, header ...string) (cookie string, set string) {
	t.Helper()
	in := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/sessions", fmt.Sprintf(`{"key":%q}`, key), append(header, Anonymous)...)
	require.Equal(t, http.StatusCreated, in.Status, in.Body)
	set = in.Header.Get("Set-Cookie")
	return "Cookie: " + strings.Split(set, ";")[0], set
}

// PageOrigin is where the pages of the regatta's site come from.
const PageOrigin = "https://heronlake.example"

// Keys makes a key of each scope.
func (s *Service) Keys(t testing.TB) map[string]string {
	t.Helper()
	secrets := map[string]string{"admin": s.Admin}
	for _, k := range []keys.NewKey{
		{Name: "a page", Scope: "page", Sites: []string{"heronlake.example"}, Origins: []string{PageOrigin}},
		{Name: "a server", Scope: "server"},
	} {
		created, err := s.Client.CreateKey(t.Context(), k)
		require.NoError(t, err)
		secrets[string(k.Scope)] = created.Secret
	}
	return secrets
}

// Parse reads the body of an answer.
func Parse[T any](t testing.TB, a Answer) (v T) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(a.Body), &v), a.Body)
	return v
}

// rebuild asks for an edition and waits until it is built.
func (s *Service) rebuild(t *testing.T) (edition string) {
	t.Helper()
	require.NoError(t, s.Client.BuildEdition(t.Context()))
	require.Eventually(t, func() bool {
		_, job, err := s.Client.Editions(t.Context())
		edition = job.Edition
		return err == nil && !job.Running && job.Edition != ""
	}, 10*time.Minute, 20*time.Millisecond)
	return edition
}

// Next publishes the later geofeed, and gives the edition that waits.
func (s *Service) Next(t *testing.T) string {
	t.Helper()
	require.NoError(t, demo.WriteNext(s.Dir))
	return s.rebuild(t)
}

// SaveGates puts gates in force.
func (s *Service) SaveGates(t testing.TB, rules gate.Rules) {
	t.Helper()
	state := Parse[api.GateState](t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/gate?site=heronlake.example", ""))
	body, err := json.Marshal(api.GateSave{Rules: rules, Revision: state.Live.Revision})
	require.NoError(t, err)
	saved := s.Call(t, "127.0.0.1", http.MethodPut, s.AdminURL+"/v1/gate?site=heronlake.example", string(body))
	require.Equal(t, http.StatusOK, saved.Status, saved.Body)
}

// Stored are the paths of the visits of the site, the oldest first, once there are so many.
func (s *Service) Stored(t *testing.T, n int) (paths []string, list []visit.Visit) {
	t.Helper()
	require.Eventually(t, func() bool {
		Settled(t, s.AdminURL, s.Admin)
		page, err := s.Client.Visits(t.Context(), url.Values{"site": {demo.Site}}, "", 100)
		list = page.Visits
		return err == nil && len(list) >= n
	}, 10*time.Minute, 50*time.Millisecond)
	for i := len(list) - 1; i >= 0; i-- {
		paths = append(paths, list[i].Path)
	}
	return paths, list
}
