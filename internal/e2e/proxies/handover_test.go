package proxies

import (
	"bufio"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/handover"
	"eastporch/internal/testkit/live"
)

// A handoverFront is a real proxy before an application, set up by the recipes as
// GET /v1/snippets hands them out.
type handoverFront struct {
	name    string
	removes *regexp.Regexp // the lines that remove what came from outside
	start   func(t *testing.T, port string, recipes map[string]string)
}

var handoverFronts = []handoverFront{
	{"nginx", regexp.MustCompile(`(?m)^ *more_clear_input_headers .*\n`), func(t *testing.T, port string, recipes map[string]string) {
		live.StartNginx(t, port, recipes["nginx"])
	}},
	{"HAProxy", regexp.MustCompile(`(?m)^ *http-request (del-header|set-header Connection) .*\n`), func(t *testing.T, port string, recipes map[string]string) {
		inner, lua := live.FreePort(t), filepath.Join(t.TempDir(), "haproxy-handover.lua")
		elsewhere := strings.NewReplacer("/etc/haproxy/haproxy-handover.lua", lua, "127.0.0.1:8079", "127.0.0.1:"+inner, `"127.0.0.1", 8079`, `"127.0.0.1", `+inner)
		require.NoError(t, os.WriteFile(lua, []byte(elsewhere.Replace(recipes["haproxy-lua"])), 0o644))
		live.StartHAProxy(t, port, elsewhere.Replace(recipes["haproxy"]))
	}},
	{"Apache", regexp.MustCompile(`(?m)^ *remove_ours\(r\)\n`), func(t *testing.T, port string, recipes map[string]string) {
		lua := filepath.Join(live.ShortDir(t), "apache-handover.lua")
		require.NoError(t, os.WriteFile(lua, []byte(recipes["apache-lua"]), 0o644))
		live.StartApache(t, port, strings.ReplaceAll(recipes["apache"], "/etc/apache2/apache-handover.lua", lua))
	}},
}

// fetch asks a front for its page. Header lines are sent as they are written, since Go's
// client would tidy them.
func fetch(t *testing.T, port string, header ...string) (status int, body string, got http.Header) {
	t.Helper()
	conn, err := net.Dial("tcp", "127.0.0.1:"+port)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(30*time.Second)))
	_, err = fmt.Fprintf(conn, "GET / HTTP/1.1\r\nHost: heronlake.example\r\n%s\r\n", strings.Join(append(header, ""), "\r\n"))
	require.NoError(t, err)
	res, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text), res.Header
}

// forgeries are spellings of fields that only the proxy may write, and of one that it never
// writes: fewer than the 100 fields that proxies take.
func forgeries() []string {
	list := []string{"porch-gate: forged", "Porch-Region-Code: forged", "Forwarded: for=forged", "X-Real-IP: forged", "X-Real_IP: forged"}
	for _, mark := range strings.Split("! # $ % & ' * + - . ^ _ ` | ~", " ") {
		for _, name := range []string{"Porch%sCountry%[1]sCode", "PORCH%sUnheard%[1]sOf", "x%sreal%[1]sip"} {
			list = append(list, fmt.Sprintf(name, mark)+": forged")
		}
		if mark != "-" {
			list = append(list, fmt.Sprintf("X%sForwarded-For: forged", mark), fmt.Sprintf("X-Forwarded%sFor: forged", mark))
		}
	}
	return list
}

// malformed are fields that servers read in different ways, or not at all.
var malformed = []string{
	"Porch-Gate : forged", "Porch-Gate\t: forged", "\tPorch-Gate: forged", "X-A: b\r\n Porch-Gate: forged", "Porch-Gate:forged\x0b", "\x0bPorch-Gate: forged", "Porch-Gate\x00: forged", "Porch-Gäte: forged",
	"PORCH_GATE: forged", "porch%2DGate: forged", "Porch Gate: forged", "Porch-Gate: a\rPorch-Gate: forged", "Porch-Gate: a\nPorch-Gate: forged", ":Porch-Gate: forged", "X-Real-IP: forged\r\nConnection: X-Real-IP, Porch-Gate",
	"Transfer-Encoding: chunked\r\nTrailer: Porch-Gate\r\n\r\n0\r\nPorch-Gate: forged\r\nPorch_Unheard_Of: forged\r\n",
}

// variables reads what an application printed, with every name as the most forgiving
// server would fold it.
func variables(body string) map[string]string {
	found := map[string]string{}
	for line := range strings.Lines(body) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		folded := regexp.MustCompile("[^A-Z0-9]").ReplaceAllString(strings.ToUpper(name), "_")
		found[folded] += value
	}
	return found
}

// Real nginx, HAProxy and Apache hand the facts to real WSGI and CGI applications, and
// nobody else's.
func TestHandoverThroughRealProxies(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}})
	key := s.Keys(t)["server"]
	for _, front := range handoverFronts {
		for kind, run := range live.Applications {
			t.Run(front.name+" before "+kind, func(t *testing.T) {
				t.Parallel()
				application, port := live.FreePort(t), live.FreePort(t)
				run(t, application)
				recipes := s.Recipes(t, s.PublicURL, key, port, "127.0.0.1:"+application)
				front.start(t, port, recipes)

				status, body, header := fetch(t, port, append(forgeries(), "X-Forwarded-For: 198.18.3.40", "Accept-Language: pt-BR,pt;q=0.9", "Cookie: a=b; porch_choice=fr", "Connection: Porch-Country-Code, X-Forwarded-For, Porch-Gate")...)
				require.Equal(t, http.StatusOK, status, body)
				assert.NotContains(t, body, "forged")
				assert.NotContains(t, body, "Bearer", "the key is the proxy's own")
				got := variables(body)
				for name, want := range map[string]string{
					"HTTP_PORCH_COUNTRY_CODE": "PT", "HTTP_PORCH_REGION_CODE": "PT-11", "HTTP_PORCH_LANGUAGE": "fr", "HTTP_PORCH_CURRENCY_CODE": "EUR",
					"HTTP_PORCH_TIME_ZONE": "Europe/Lisbon", "HTTP_PORCH_VARIANT": "offer=early-entry, pictures=coast", "HTTP_PORCH_GATE": "admit",
					"HTTP_PORCH_CITY": "Lisbonne", "HTTP_PORCH_LATITUDE": "38.717", "HTTP_PORCH_LONGITUDE": "-9.133", "HTTP_PORCH_RADIUS_KM": "15",
				} {
					assert.Equal(t, want, got[name], name)
				}
				assert.Equal(t, "198.18.3.40,127.0.0.1", strings.ReplaceAll(got["HTTP_X_FORWARDED_FOR"], " ", ""), "the list, extended by who connected")
				if front.name == "nginx" {
					checkCookie(t, s, header.Get("Set-Cookie"))
				}

				for _, line := range malformed {
					_, body, _ := fetch(t, port, line, "Connection: close")
					for name, value := range variables(body) {
						assert.False(t, strings.HasPrefix(name, "HTTP_PORCH_") && strings.Contains(value, "forged"), "%q: %s", line, name)
					}
				}
				_, none, _ := fetch(t, port, append(forgeries(), "X-Forwarded-For: 10.1.2.3", "Connection: close")...)
				assert.NotContains(t, none, "forged")
				got = variables(none)
				assert.NotContains(t, got, "HTTP_PORCH_COUNTRY_CODE", "not known, and the forged one is gone")
				assert.Equal(t, "en", got["HTTP_PORCH_LANGUAGE"])
			})
			t.Run(front.name+" before "+kind+" without the lines that remove", func(t *testing.T) {
				t.Parallel()
				application, port := live.FreePort(t), live.FreePort(t)
				run(t, application)
				recipes := s.Recipes(t, s.PublicURL, key, port, "127.0.0.1:"+application)
				for name, text := range recipes {
					recipes[name] = front.removes.ReplaceAllString(text, "")
				}
				front.start(t, port, recipes)
				_, body, _ := fetch(t, port, append(forgeries(), "X-Forwarded-For: 10.1.2.3", "Connection: close")...)
				assert.Contains(t, variables(body)["HTTP_PORCH_UNHEARD_OF"], "forged", "so that the test above can fail")
			})
		}
	}
}

// greetings are the applications that are handed out.
var greetings = map[string]func(t *testing.T, port string, recipes map[string]string){
	"Python": func(t *testing.T, port string, recipes map[string]string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "greeting.py"), []byte(recipes["greeting-python"]), 0o600))
		live.Serve(t, port, "gunicorn", "--chdir", dir, "--bind", "127.0.0.1:"+port, "--bind", "[::1]:"+port, "greeting:application")
	},
	"Node": func(t *testing.T, port string, recipes map[string]string) {
		file := filepath.Join(t.TempDir(), "greeting.mjs")
		require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(recipes["greeting-node"], `listen(3000, "127.0.0.1")`, "listen("+port+", \"::\")")), 0o600))
		live.Serve(t, port, "node", file)
	},
}

// A page that the server writes greets by town, whatever the town is called, whatever the
// client claims, and goes on without one where the service is away.
func TestAPageIsGreetedByTown(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}})
	key := s.Keys(t)["server"]
	for address, city := range map[string]string{"198.51.100.9": "São Paulo", "198.51.100.10": `Rum "Jungle" <b>`} {
		made := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/corrections", fmt.Sprintf(`{"range":%q,"country_code":"BR","city":%q}`, address, city))
		require.Equal(t, http.StatusCreated, made.Status, made.Body)
	}
	for _, front := range handoverFronts {
		for language, run := range greetings {
			t.Run(front.name+" before "+language, func(t *testing.T) {
				t.Parallel()
				application, port := live.FreePort(t), live.FreePort(t)
				recipes := s.Recipes(t, s.PublicURL, key, port, "127.0.0.1:"+application)
				run(t, application, recipes)
				front.start(t, port, recipes)
				greeted := func(header ...string) string {
					status, body, got := fetch(t, port, append(header, "Connection: close")...)
					require.Equal(t, http.StatusOK, status, body)
					assert.Equal(t, "private, no-store", got.Get("Cache-Control"))
					_, text, _ := strings.Cut(body, "<h1>")
					text, _, _ = strings.Cut(text, "</h1>")
					return html.UnescapeString(text)
				}
				assert.Equal(t, "Hello to São Paulo!", greeted("X-Forwarded-For: 198.51.100.9"))
				assert.Equal(t, `Hello to Rum "Jungle" <b>!`, greeted("X-Forwarded-For: 198.51.100.10"))
				assert.Equal(t, "Hello to Lisboa!", greeted("X-Forwarded-For: 198.18.3.40", "Accept-Language: pt", "Porch_City: Oslo", "Porch-City: Oslo"))
				assert.Equal(t, "Hello, wherever you are!", greeted("X-Forwarded-For: 10.1.2.3", "Porch-City: Oslo", "PORCH.CITY: Oslo"))
			})
		}
	}
}

// checkCookie holds the cookie of a handover against its key.
func checkCookie(t *testing.T, s *live.Service, cookie string) {
	t.Helper()
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "Max-Age=900")
	value, _, _ := strings.Cut(strings.TrimPrefix(cookie, handover.CookieName+"="), ";")
	key, err := os.ReadFile(filepath.Join(s.Data, "keys", "handover.key"))
	require.NoError(t, err)
	facts, err := handover.Open(value, key, time.Now())
	require.NoError(t, err)
	assert.Equal(t, "PT", facts.CountryCode)
}

// A service that is away costs a page at most the stated second, however it is away.
func TestHandoverWithoutTheService(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	refusing := closed.Addr().String()
	require.NoError(t, closed.Close())
	for away, address := range map[string]string{"closed port": refusing, "black hole": blackHole(t), "silent": silent(t)} {
		for _, front := range handoverFronts {
			t.Run(front.name+", "+away, func(t *testing.T) {
				t.Parallel()
				application, port := live.FreePort(t), live.FreePort(t)
				live.Applications["CGI"](t, application)
				front.start(t, port, s.Recipes(t, "http://"+address, "porch_server_none", port, "127.0.0.1:"+application))
				took := []time.Duration{}
				for range 5 {
					began := time.Now()
					status, body, _ := fetch(t, port, append(forgeries(), "Connection: close")...)
					took = append(took, time.Since(began))
					assert.Equal(t, http.StatusOK, status, "the page does not break: %s", body)
					assert.NotContains(t, body, "forged")
					assert.NotContains(t, body, "HTTP_PORCH_")
				}
				// Which is the proxy's limit and not a measure of speed: the quickest of five.
				t.Log(slices.Min(took))
				assert.Less(t, slices.Min(took), 2*time.Second)
			})
		}
	}
}

// blackHole listens, and lets no connection come about: its queue is full.
func blackHole(t *testing.T) string {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	require.NoError(t, syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}))
	require.NoError(t, syscall.Listen(fd, 0))
	name, err := syscall.Getsockname(fd)
	require.NoError(t, err)
	address := fmt.Sprintf("127.0.0.1:%d", name.(*syscall.SockaddrInet4).Port)
	for range 3 { // what the queue holds; the last finds it full
		c, err := net.DialTimeout("tcp", address, 300*time.Millisecond)
		if err != nil {
			return address
		}
		t.Cleanup(func() { _ = c.Close() })
	}
	t.Fatal("the queue takes them all")
	return ""
}

// silent accepts connections and says nothing.
func silent(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { _ = c.Close() })
		}
	}()
	return l.Addr().String()
}
