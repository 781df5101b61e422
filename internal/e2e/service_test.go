// Package e2e starts the whole service on loopback, with a real PostgreSQL and
// the regatta's data, and calls it as its users do: over plain HTTP, through
// the Go client, with the command line and in a browser.
package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
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
	"eastporch/internal/demo"
	"eastporch/internal/server"
	"eastporch/internal/server/access"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/testkit/db"
)

func TestMain(m *testing.M) {
	code := db.Run(m)
	_ = os.Remove(filepath.Join(os.TempDir(), fmt.Sprintf("eastporch-e2e-%d", os.Getpid()))) // of [built]
	os.Exit(code)
}

// service is a running service and the ways into it.
type service struct {
	publicURL, adminURL string
	database            string
	dir, data           string // of the configuration, and of what the service keeps
	admin               string // an admin key
	server              *server.Server
	client              *client.Client
	contract            *contract
}

// start runs a service with the regatta's configuration and a database of its
// own until the test ends. Keys of flags go over the configuration's.
func start(t testing.TB, flags map[string]any) *service {
	t.Helper()
	dir := t.TempDir()
	file, err := demo.Write(dir)
	require.NoError(t, err)
	return startOn(t, file, flags)
}

// startOn is start with a configuration file.
func startOn(t testing.TB, file string, flags map[string]any) *service {
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
	svc := &service{server: s, publicURL: s.URL(httpapi.PublicListener), adminURL: s.URL(httpapi.AdminListener), database: database, dir: dir, data: data, contract: c}
	svc.admin, err = s.Key(t.Context(), "the tests", access.Admin)
	require.NoError(t, err)
	svc.client, err = client.New(svc.adminURL, svc.admin, c)
	require.NoError(t, err)
	return svc
}

// fill sends n of the regatta's visits, and waits until they are stored.
func (s *service) fill(t *testing.T, n int) {
	t.Helper()
	require.NoError(t, demo.Send(t.Context(), s.client, demo.Visits(demo.Seed, n, time.Now()), func(int, int) {}))
	settled(t, s.adminURL, s.admin) // however busy the machine is
}

// answer is what came back over plain HTTP.
type answer struct {
	status int
	header http.Header
	body   string
}

// at gives what stands in JSON under a path of names and places, such as visits.0.path.
func (a answer) at(t *testing.T, path string) any {
	t.Helper()
	value := parse[any](t, a)
	for name := range strings.SplitSeq(path, ".") {
		switch of := value.(type) {
		case map[string]any:
			require.Contains(t, of, name, "%s in %s", path, a.body)
			value = of[name]
		case []any:
			i, err := strconv.Atoi(name)
			require.NoError(t, err, path)
			require.Less(t, i, len(of), "%s in %s", path, a.body)
			value = of[i]
		default:
			require.Fail(t, "nothing stands there", "%s in %s", path, a.body)
		}
	}
	return value
}

// said is what a problem says, and what to do about it.
func (a answer) said(t *testing.T) string {
	t.Helper()
	return fmt.Sprintf("%s %s", a.at(t, "detail"), a.at(t, "hint"))
}

// anonymous in place of a header line sends a request without a key.
const anonymous = "Anonymous: yes"

// call sends a request from a loopback address, such as 127.0.0.9, with the
// admin key unless a header line says otherwise, and holds the answer against
// the contract.
func (s *service) call(t testing.TB, from, method, url, body string, header ...string) answer {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+s.admin)
	for _, line := range header {
		name, value, _ := strings.Cut(line, ": ")
		switch {
		case line == anonymous:
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
	res, err := (&contract{t: t, router: s.contract.router, next: transport}).RoundTrip(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return answer{res.StatusCode, res.Header, string(text)}
}

// contract is a transport that fails the test when an answer is not what
// api/openapi.yaml says.
type contract struct {
	t      testing.TB
	router routers.Router
	next   http.RoundTripper
}

func newContract(t testing.TB) *contract {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromData(api.YAML())
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()))
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	return &contract{t: t, router: router, next: http.DefaultTransport}
}

func (c *contract) RoundTrip(req *http.Request) (*http.Response, error) {
	res, err := c.next.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	route, params, err := c.router.FindRoute(req)
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
		c.t.Errorf("%s %s answers %d against the contract: %v", req.Method, req.URL, res.StatusCode, err)
	}
	return res, nil
}

func visitBody(peer, list string) string {
	return fmt.Sprintf(`{"site":"heronlake.example","path":"/programme","peer":%q,"headers":{"X-Forwarded-For":[%q]}}`, peer, list)
}
