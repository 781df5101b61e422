package companions

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/companion"
	"eastporch/internal/demo/standin"
	"eastporch/internal/fetch"
)

func TestEveryWayToFail(t *testing.T) {
	for kind, want := range map[string]string{
		"hang": "the service did not answer within 2s", "slow": "the service did not answer within 2s", "503": "the service answered 503",
		"error": "nothing that you picked is in it", "html": "it is HTML or XML", "huge": "more than 1048576 bytes", "empty": "it is empty",
		"redirect": "answered 302 and leads to http://127.0.0.1:1/elsewhere, which is not followed",
	} {
		t.Run(kind, func(t *testing.T) {
			server := httptest.NewUnstartedServer(nil)
			weather := &standin.Weather{Key: weatherKey, Now: time.Now}
			server.Config.Handler = weather
			server.Start()
			defer server.Close()
			h := newHouse(t, &fetch.Client{Inside: true}, func(s *companion.Said) { s.URL = server.URL + "/v1/now" })
			defer h.run(t)()
			require.NotNil(t, h.look(in(10, 10)).Category)
			require.NoError(t, weather.Fail(kind))
			a := h.look(oslo)
			assert.Nil(t, a.Category)
			assert.Contains(t, a.Missing["wind"], want)
			assert.Contains(t, *h.state(t).Last.Problem, want)
			told(t, h)
			assert.NotNil(t, h.look(in(10, 10)).Category, "what is there stays")
			require.NoError(t, weather.Fail("none"))
			s, err := h.AskAgain(t.Context(), h.site, "weather")
			require.NoError(t, err)
			assert.Equal(t, companion.Answering, s.Standing)
			assert.NotContains(t, h.log.String(), weatherKey)
		})
	}
	t.Run("nobody is there", func(t *testing.T) {
		h := newHouse(t, &fetch.Client{Inside: true}, func(s *companion.Said) { s.URL = "http://127.0.0.1:1/v1/now" })
		defer h.run(t)()
		assert.Contains(t, h.look(oslo).Missing["wind"], "connection refused")
		told(t, h)
		assert.NotContains(t, fmt.Sprint(h.log.String(), h.state(t)), weatherKey)
	})
	t.Run("inside is not allowed", func(t *testing.T) {
		h := newHouse(t, &fetch.Client{InsideKey: "companions.fetch_inside"}, func(s *companion.Said) { s.URL = "http://127.0.0.1:1/v1/now" })
		defer h.run(t)()
		assert.Contains(t, h.look(oslo).Missing["wind"], "is not public: companions.fetch_inside allows it")
		told(t, h)
	})
}

// told checks that what visitors read of a failure names nothing of the owner's.
func told(t *testing.T, h *house) {
	t.Helper()
	all := h.Running(host).Answers(oslo, false, h.Now())
	require.NotEmpty(t, all)
	text, err := all.Public().MarshalJSON()
	require.NoError(t, err)
	var read companion.Answers
	require.NoError(t, read.UnmarshalJSON(text))
	for _, one := range read {
		for name, reason := range one.Missing {
			assert.Contains(t, []string{"the service gives no answer here now", "the service is being asked", "the service was not asked yet"}, reason, name)
		}
		assert.NotEmpty(t, one.Missing)
	}
}

func TestASecretThatIsGoneOrAnother(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, nil)
		defer h.run(t)()
		file := filepath.Join(h.dir, "weather.key")
		require.NoError(t, os.Remove(file))
		assert.Equal(t, "the secret file:weather.key is not usable: the file is not there", h.look(oslo).Missing["wind"])
		assert.Empty(t, h.weather.Asked())
		assert.Zero(t, h.state(t).UsedToday, "what is not asked is not counted")
		require.NoError(t, os.WriteFile(file, []byte("another-key"), 0o600))
		pass(time.Minute)
		assert.Equal(t, "the service answered 401", h.look(oslo).Missing["wind"])
		require.NoError(t, os.WriteFile(file, []byte(weatherKey), 0o600))
		pass(5 * time.Minute)
		assert.NotNil(t, h.look(oslo).Category, "another one is taken at once")
		require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(h.dir, "link")))
		_, err := h.Secrets.Read([]string{"file:link"})
		assert.Error(t, err, "nothing outside the directory is read")
		assert.Equal(t, []string{"file:link", "file:weather.key"}, h.Secrets.Names())
		require.NoError(t, os.WriteFile(filepath.Join(h.dir, "tiny"), []byte("abc"), 0o600))
		_, err = h.Secrets.Read([]string{"file:tiny"})
		assert.ErrorContains(t, err, "fewer than 8")
		assert.NotContains(t, err.Error(), "abc")
	})
}

// TestNothingLeavesButCoarseFacts searches every request that was made and everything that was said.
func TestNothingLeavesButCoarseFacts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, func(s *companion.Said) {
			s.Parameters = append(s.Parameters, companion.Parameter{Name: "X-Key", In: "header", Secret: "file:weather.key"}, companion.Parameter{Name: "cc", In: "query", Fact: "country_code"})
		})
		defer h.run(t)()
		random := rand.New(rand.NewPCG(13, 14))
		said := ""
		for range 300 {
			require.NoError(t, h.weather.Fail(standin.Failures[random.IntN(len(standin.Failures))]))
			of := in(random.Float64()*180-90, random.Float64()*360-180)
			of.Language = []string{"nb", "x-198-18-3-40", "en-u-va-posix"}[random.IntN(3)]
			a := h.look(of)
			text := a.AppendJSON(nil)
			said += string(text) + fmt.Sprint(h.state(t))
			pass(time.Duration(random.IntN(600)) * time.Second)
		}
		said += h.log.String()
		assert.NotContains(t, said, weatherKey)
		asked := h.weather.Asked()
		require.Greater(t, len(asked), 30)
		for _, one := range asked {
			assert.Regexp(t, `^GET /v1/now\?lat=-?\d{1,2}\.\d&lon=-?\d{1,3}\.\d&lang=[a-z]{2}&key=`+weatherKey+`&cc=NO\nHost: sky\.example\nAccept: application/json\r\n(If-None-Match: [^\r]*\r\n)?User-Agent: EastPorch\r\nX-Key: `+weatherKey+`\r\n$`, one)
			assert.NotContains(t, strings.ToLower(one), "cookie")
		}
	})
}

func TestAnswersThatHaveNotChanged(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		unchanged := 0
		h := newHouse(t, nil, nil)
		h.Out = through{http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("ETag", `"a"`)
			if r.Header.Get("If-None-Match") == `"a"` {
				unchanged++
				w.WriteHeader(http.StatusNotModified)
				return
			}
			h.weather.ServeHTTP(w, r)
		})}
		defer h.run(t)()
		first := h.look(oslo)
		pass(time.Hour)
		again := h.look(oslo)
		assert.Equal(t, 1, unchanged)
		assert.Equal(t, first.Values, again.Values)
		assert.Zero(t, *again.Age, "the service said so anew")
	})
}

// TestChangedWhileItIsAsked: values are picked anew while an answer of before is on its way, or has not changed;
// and what may be shown is made younger than what is kept.
func TestChangedWhileItIsAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, nil)
		h.Out = through{http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("ETag", `"a"`)
			pass(time.Second)
			if r.Header.Get("If-None-Match") == `"a"` {
				w.WriteHeader(http.StatusNotModified)
				return
			}
			h.weather.ServeHTTP(w, r)
		})}
		defer h.run(t)()
		more := func(n int) func(*companion.Said) {
			return func(s *companion.Said) {
				for i := range n {
					s.Values = append(s.Values, companion.Pick{Name: fmt.Sprint("cloud", i), Pointer: "/now/cloud", Type: "number"})
				}
			}
		}
		for n := range 12 {
			h.Running(host).Answers(oslo, true, h.Now())
			pass(time.Duration(n%3) * 400 * time.Millisecond)
			h.save(t, more(n*5%7))
			a := h.look(oslo)
			assert.Len(t, a.Values, 2+n*5%7)
			assert.Empty(t, a.Missing)
			pass(time.Hour)
		}
		h.look(oslo)
		pass(10 * time.Minute)
		h.save(t, func(s *companion.Said) { s.KeepSeconds, s.OldestSeconds = 60, 120 })
		a := h.Running(host).Answers(oslo, false, h.Now()).Get("weather")
		assert.Nil(t, a.Age, "it is too old now")
		assert.Zero(t, *h.look(oslo).Age)
	})
}
