package proxies

import (
	"bufio"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/gate"
	"eastporch/internal/testkit/live"
)

var (
	targets    = flag.Int("targets", 150, "how many random targets each application is asked for through each proxy")
	targetSeed = flag.Uint64("target-seed", 32, "what they are drawn from")
)

// fileServers serve the files of a directory, each by its own reading of a request target.
var fileServers = map[string]func(t *testing.T, port, root string){
	"Go": func(t *testing.T, port, root string) {
		for _, at := range []string{"127.0.0.1:", "[::1]:"} {
			l, err := net.Listen("tcp", at+port)
			require.NoError(t, err)
			app := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.FileServer(http.Dir(root))}
			go func() { _ = app.Serve(l) }()
			t.Cleanup(func() { _ = app.Close() })
		}
	},
	"Node": func(t *testing.T, port, root string) {
		file := filepath.Join(t.TempDir(), "app.js")
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, `
const { createServer } = require("node:http"), { readFile } = require("node:fs"), { join } = require("node:path"), { parse } = require("node:url");
const serve = (req, res) => {
  try {
    readFile(join(%[1]q, decodeURIComponent(parse(req.url).pathname)), (error, text) => error ? res.writeHead(404).end() : res.end(text));
  } catch { res.writeHead(400).end(); }
};
createServer(serve).listen(%[2]s, "127.0.0.1");
createServer(serve).listen(%[2]s, "::1");
`, root, port), 0o600))
		live.Serve(t, port, "node", file)
	},
	"Python": func(t *testing.T, port, root string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "app.py"), fmt.Appendf(nil, `
import os
def app(environ, start):
    name = os.path.join(%q, environ["PATH_INFO"].lstrip("/"))
    try:
        with open(name, "rb") as f: text = f.read()
    except (OSError, ValueError):
        start("404 Not Found", []); return [b""]
    start("200 OK", []); return [text]
`, root), 0o600))
		live.Serve(t, port, "gunicorn", "--chdir", dir, "--bind", "127.0.0.1:"+port, "--bind", "[::1]:"+port, "app:app")
	},
	"CGI": func(t *testing.T, port, root string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "page.cgi"), fmt.Appendf(nil, `#!/bin/bash
path=${REQUEST_URI%%%%\?*}
printf 'Content-Type: text/plain\r\n\r\n'
[[ $path == /* ]] && cat "%s$(printf '%%b' "${path//%%/\\x}")" 2>/dev/null
`, root), 0o700))
		conf := filepath.Join(dir, "lighttpd.conf")
		require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `
server.modules = ("mod_rewrite", "mod_cgi")
server.document-root = %[1]q
server.bind = "127.0.0.1"
server.port = %[2]s
$SERVER["socket"] == "[::1]:%[2]s" { }
url.rewrite-once = ("" => "/page.cgi")
cgi.assign = (".cgi" => "")
`, dir, port), 0o600))
		live.Serve(t, port, "lighttpd", "-D", "-f", conf)
	},
}

// randomTarget is a spelling of a path, often of the gated page, as whoever wants past would try.
func randomTarget(r *rand.Rand) string {
	pieces := []string{
		"/", "//", "/./", "/../", "early", "early", "eights", "eights", "programme", "x", "E", "%2e%2e", "%2F", "%5c", `\`, ";", ";a=1", "%252e", "%23", "#", "#/..", "?", "?/", "%3f", "|", "[", "]", "^", "{", "}", "é", "%00", "%", ".", "..", "%20", "\t", "\x01", "+", "&", "=", ":", "@",
	}
	if r.IntN(2) == 0 { // one odd piece in or before the gated page
		odd := pieces[r.IntN(len(pieces))]
		shapes := []string{"/%s/early/eights", "/%s/../early/eights", "/early%s/eights", "/early/%seights", "/early/eights%s", "/%s/../../early/eights", "%s/early/eights", "/x%s/../early/eights", "/programme%s/../early/eights"}
		return fmt.Sprintf(shapes[r.IntN(len(shapes))], odd)
	}
	var b strings.Builder
	b.WriteByte('/')
	for range 1 + r.IntN(7) {
		b.WriteString(pieces[r.IntN(len(pieces))])
	}
	return b.String()
}

// askFor gives what a front serves for a raw target; a front that hangs up serves nothing.
func askFor(t *testing.T, port, target, visitor string) (status int, body string) {
	t.Helper()
	conn, err := net.Dial("tcp", "127.0.0.1:"+port)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Minute)))
	_, err = fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: heronlake.example\r\n%s\r\nConnection: close\r\n\r\n", target, visitor)
	require.NoError(t, err)
	res, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		return 0, ""
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(res.Body) // what came before it was cut counts
	return res.StatusCode, string(text)
}

// What real applications serve is what the gate judged: whatever the target, none of them serves the gated page
// to somebody whom the gate refuses.
func TestApplicationsServeWhatTheGateJudged(t *testing.T) {
	t.Parallel()
	const heats = "the heats of the early entry"
	root := live.ShortDir(t)
	require.NoError(t, os.Mkdir(filepath.Join(root, "early"), 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(root, "x"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "early", "eights"), []byte(heats), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "programme"), []byte("the programme"), 0o644))
	s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}, "limits.key_per_second": 1_000_000})
	s.SaveGates(t, nordic(gate.Refuse))
	key := s.Keys(t)["server"]
	for _, front := range handoverFronts {
		for name, start := range fileServers {
			t.Run(front.name+" "+name, func(t *testing.T) {
				application, port := live.FreePort(t), live.FreePort(t)
				start(t, application, root)
				front.start(t, port, s.Recipes(t, s.PublicURL, key, port, "127.0.0.1:"+application))
				r := rand.New(rand.NewPCG(*targetSeed, uint64(len(front.name)*10+len(name))))
				served := 0
				for range *targets {
					target := randomTarget(r)
					if _, body := askFor(t, port, target, portuguese); strings.Contains(body, heats) {
						served++
					}
					status, body := askFor(t, port, target, japanese)
					assert.NotContains(t, body, heats, "%q was served with %d", target, status)
				}
				status, body := askFor(t, port, "/programme?|/early/eights", japanese)
				assert.Equal(t, http.StatusOK, status, "the query decides nothing")
				assert.Contains(t, body, "the programme")
				assert.Positive(t, served, "some of them lead to the gated page")
				t.Logf("%d of %d targets lead to the gated page; the gate let nobody else in", served, *targets)
			})
		}
	}
}
