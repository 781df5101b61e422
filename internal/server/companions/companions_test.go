package companions

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/card"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/locale"
	"eastporch/internal/demo/standin"
	"eastporch/internal/server/secrets"
	"eastporch/internal/server/sites"
	"eastporch/internal/testkit/papers"
)

const (
	host       = "heronlake.example"
	weatherKey = "made-up-key-of-the-tests"
)

// memory is the table of what was asked, which counts as PostgreSQL does where the clock is right.
type memory struct {
	lock  sync.Mutex
	spent companion.Spent
	away  error
}

func (m *memory) Claim(_ context.Context, _, _ string, c companion.Claim) (companion.Spent, bool, error) {
	m.lock.Lock()
	defer m.lock.Unlock()
	day, minute := m.spent.On(c.Day, c.Minute)
	if m.away != nil || day >= c.MostDay || minute >= c.MostMinute {
		return m.spent, false, m.away
	}
	m.spent = companion.Spent{Day: c.Day, Asked: day + 1, Minute: c.Minute, AskedInMinute: minute + 1}
	return m.spent, true, nil
}

func (m *memory) Spent(context.Context) (map[[2]string]companion.Spent, error) {
	m.lock.Lock()
	defer m.lock.Unlock()
	return map[[2]string]companion.Spent{{host, "weather"}: m.spent}, m.away
}

// A house is the service with a weather that it asks.
type house struct {
	*Companions
	rows    *memory
	weather *standin.Weather
	site    *sites.Site
	log     *bytes.Buffer
	dir     string
}

// through asks a handler without a network, as long as the question lasts.
type through struct{ handler http.Handler }

func (o through) Once(r *http.Request, most int64) (*http.Response, []byte, error) {
	out := &hungUp{httptest.NewRecorder(), most}
	o.handler.ServeHTTP(out, r)
	if err := r.Context().Err(); err != nil {
		return nil, nil, err
	}
	body := out.Body.Bytes()
	answer := out.Result()
	answer.Request = r
	return answer, body[:min(int64(len(body)), most)], nil
}

// hungUp takes so many bytes of an answer, and no more.
type hungUp struct {
	*httptest.ResponseRecorder
	left int64
}

func (h *hungUp) Write(p []byte) (int, error) {
	if h.left -= int64(len(p)); h.left < -int64(len(p)) {
		return 0, errors.New("hung up")
	}
	return h.ResponseRecorder.Write(p)
}

func newHouse(t *testing.T, ask out, edit func(*companion.Said)) *house {
	t.Helper()
	h := &house{rows: &memory{}, weather: &standin.Weather{Key: weatherKey, Now: time.Now}, log: &bytes.Buffer{}, dir: t.TempDir()}
	require.NoError(t, os.WriteFile(filepath.Join(h.dir, "weather.key"), []byte(weatherKey+"\n"), 0o600))
	if ask == nil {
		ask = through{h.weather}
	}
	var running atomic.Pointer[Site]
	docs := papers.New(&papers.Rows{}, papers.Kinds{document.Companion: {Most: companion.MaxCompanions, Word: "companions", None: companion.ErrNone, Changed: companion.ErrChanged}}, time.Now, func(set *document.Set) {
		s := h.Site(set, host, "Europe/Oslo")
		running.Store(s)
		h.Companions.Use(map[string]*Site{host: s})
	})
	h.Companions = New(Options{
		Rows: h.rows, Documents: docs, Running: func(string) *Site { return running.Load() }, Log: slog.New(slog.NewTextHandler(h.log, nil)), Now: time.Now,
		Outside: Outside{Out: ask, Inside: true, Secrets: secrets.Store{Dir: h.dir, Environ: func() []string { return nil }}},
	})
	languages, err := locale.NewLanguages([]string{"en", "pt-PT", "nb"}, "")
	require.NoError(t, err)
	known := sites.New(sites.Site{Host: host, TimeZone: "Europe/Oslo", Local: &card.Local{Languages: languages}})
	h.site = known.All()[0]
	h.save(t, edit)
	return h
}

func (h *house) save(t *testing.T, edit func(*companion.Said)) {
	t.Helper()
	said := companion.Fresh()
	said.Title, said.URL = "Weather", "http://sky.example/v1/now"
	said.Parameters = []companion.Parameter{
		{Name: "lat", In: "query", Fact: "latitude"},
		{Name: "lon", In: "query", Fact: "longitude"},
		{Name: "lang", In: "query", Fact: "language"},
		{Name: "key", In: "query", Secret: "file:weather.key"},
	}
	said.Values = []companion.Pick{{Name: "temperature", Pointer: "/now/temp", Type: "number", Unit: "°C"}, {Name: "wind", Pointer: "/now/wind", Type: "number", Unit: "m/s"}}
	said.Default = "calm"
	said.AMinute = 10_000
	if edit != nil {
		edit(&said)
	}
	_, err := h.Save(t.Context(), h.site, "weather", companion.Save{Said: said}, "the tests")
	require.NoError(t, err)
}

// run runs the service until stop is called, which waits for it.
func (h *house) run(t *testing.T) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ran := make(chan struct{})
	go func() { _ = h.Run(ctx); close(ran) }()
	for ready := false; !ready; {
		h.mu.Lock()
		ready = h.running != nil
		h.mu.Unlock()
	}
	return func() { cancel(); <-ran }
}

func in(lat, lon float64) *companion.Subject {
	norway, _ := almanac.ByCode("NO")
	return &companion.Subject{Level: "city", Point: &geo.Point{Latitude: lat, Longitude: lon}, Country: norway, TimeZone: "Europe/Oslo", Language: "nb", Written: "nb-NO"}
}

// look is what a card says for a visitor, who waits for it.
func (h *house) look(s *companion.Subject) *companion.Answer {
	a := h.Running(host).Answers(s, true, h.Now())
	a.Wait(time.Hour, nil)
	return h.Running(host).Answers(s, false, h.Now()).Get("weather")
}

func (h *house) state(t *testing.T) companion.State {
	t.Helper()
	s, err := h.Get(t.Context(), h.site, "weather")
	require.NoError(t, err)
	return s
}

// pass lets the clock of a test go on.
func pass(d time.Duration) { <-time.After(d) }

var oslo = in(59.91, 10.75)

func TestOneQuestionForAPlace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, nil)
		defer h.run(t)()
		require.NoError(t, h.weather.Fail("slow"))
		h.save(t, func(s *companion.Said) { s.TimeoutMs = 30_000 })
		var together sync.WaitGroup
		for n := range 100 {
			together.Go(func() {
				a := h.look(in(59.91+float64(n%3)/100, 10.75)) // which are one place on the grid
				assert.Equal(t, "calm", *a.Category)
			})
		}
		together.Wait()
		assert.Len(t, h.weather.Asked(), 1)
		assert.Equal(t, int64(1), h.state(t).UsedToday)
		h.look(in(51.5, -0.12))
		assert.Len(t, h.weather.Asked(), 2, "another place is another question")
	})
}

func TestOldAnswersServeWhileANewOneIsFetched(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, nil)
		defer h.run(t)()
		require.NotNil(t, h.look(oslo).Category)
		pass(29 * time.Minute) // the service says 30 minutes, the owner at least 15
		assert.Equal(t, 29*60, *h.look(oslo).Age)
		assert.Len(t, h.weather.Asked(), 1)
		require.NoError(t, h.weather.Fail("slow"))
		h.save(t, func(s *companion.Said) { s.TimeoutMs = 30_000 })
		pass(2 * time.Minute)
		a := h.Running(host).Answers(oslo, true, h.Now()).Get("weather")
		assert.Equal(t, 31*60, *a.Age, "it is marked with its age")
		assert.True(t, a.Pending)
		assert.Equal(t, "calm", *a.Category)
		h.Running(host).Answers(oslo, true, h.Now()).Wait(time.Hour, nil)
		assert.Less(t, *h.look(oslo).Age, 10)
		require.NoError(t, h.weather.Fail("503"))
		pass(5 * time.Hour)
		assert.NotNil(t, h.look(oslo).Category, "it fails, and what is there is shown")
		assert.Equal(t, companion.Failing, h.state(t).Standing)
		pass(time.Hour + time.Minute)
		gone := h.look(oslo)
		assert.Nil(t, gone.Category, "but not for ever")
		assert.Equal(t, "the service answered 503", gone.Missing["wind"])
		assert.Nil(t, gone.Values["wind"])
	})
}

// TestTheCircuit: after three failures nobody is asked for a while, then one question decides.
func TestTheCircuit(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, nil)
		defer h.run(t)()
		require.NoError(t, h.weather.Fail("html"))
		for n := range 50 {
			h.look(in(float64(n), 0))
		}
		assert.Len(t, h.weather.Asked(), failuresAllowed)
		s := h.state(t)
		assert.Equal(t, companion.Failing, s.Standing)
		assert.Equal(t, "the answer is not usable: it is HTML or XML, not JSON", *s.Reason)
		assert.WithinDuration(t, h.Now().Add(firstPause), *s.NextTry, 2*time.Second)
		assert.Len(t, h.Running(host).Check(), 1)
		pass(firstPause + time.Second)
		for n := range 50 {
			h.look(in(float64(-n), 20))
		}
		assert.Len(t, h.weather.Asked(), failuresAllowed+1, "one question after the pause")
		require.NoError(t, h.weather.Fail("none"))
		assert.Nil(t, h.look(in(80, 80)).Category, "the pause has doubled")
		s, err := h.AskAgain(t.Context(), h.site, "weather")
		require.NoError(t, err)
		assert.Equal(t, companion.Answering, s.Standing, "who asks by hand does not wait")
		assert.Empty(t, h.Running(host).Check())
		assert.NotNil(t, h.look(in(80, 80)).Category)
		require.NoError(t, h.weather.Fail("503")) // and says Retry-After: 60
		h.look(in(1, 99))
		before := len(h.weather.Asked())
		h.look(in(2, 99))
		assert.Len(t, h.weather.Asked(), before, "who wants to be left alone is")
		pass(61 * time.Second)
		h.look(in(3, 99))
		assert.Len(t, h.weather.Asked(), before+1)
	})
}

// TestTheAllowanceIsNeverExceeded asks from everywhere for days, and counts what arrived by the site's clock.
func TestTheAllowanceIsNeverExceeded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		random := rand.New(rand.NewPCG(11, 12))
		type asked struct{ day, minute string }
		zone, err := time.LoadLocation("Europe/Oslo")
		require.NoError(t, err)
		counts, answering := map[asked]int{}, false
		var lock sync.Mutex
		h := newHouse(t, nil, nil)
		h.Out = through{http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			lock.Lock()
			defer lock.Unlock()
			now := time.Now()
			counts[asked{now.In(zone).Format(time.DateOnly), now.Format("15:04")}]++
			if answering = !answering; answering || random.IntN(3) > 0 {
				h.weather.ServeHTTP(w, r)
			}
		})}
		h.save(t, func(s *companion.Said) { s.ADay, s.AMinute, s.Reserve = 200, 7, 40 })
		defer h.run(t)()
		for range 3 * 24 * 60 {
			pass(time.Duration(random.IntN(120)) * time.Second)
			h.look(in(float64(random.IntN(60)), float64(random.IntN(60))))
		}
		days := map[string]int{}
		for k, n := range counts {
			require.LessOrEqual(t, n, 7, "%v", k)
			days[k.day] += n
		}
		full := 0
		for day, n := range days {
			require.LessOrEqual(t, n, 200, day)
			if n >= 160 {
				full++
			}
		}
		assert.GreaterOrEqual(t, full, 2, "what is allowed is used: %v", days)
	})
}

// TestTheReserveIsForThePlacesAskedMost: when few questions are left, a place that nobody asks for waits.
func TestTheReserveIsForThePlacesAskedMost(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, func(s *companion.Said) { s.ADay, s.Reserve, s.KeepSeconds = 30, 10, 60 })
		defer h.run(t)()
		h.Out = through{http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			own := httptest.NewRecorder()
			h.weather.ServeHTTP(own, r)
			w.Header().Set("Cache-Control", "no-store")
			_, _ = w.Write(own.Body.Bytes())
		})}
		for range 20 { // ten places that are asked for often
			for n := range 10 {
				h.look(in(float64(n), 0))
			}
		}
		for n := range 10 { // and ten that are not
			h.look(in(float64(n), 50))
		}
		require.Equal(t, int64(20), h.state(t).UsedToday)
		assert.Equal(t, "the last 10 questions of today are for the places that are asked for most", h.look(in(77, 77)).Missing["wind"])
		pass(2 * time.Minute)
		assert.Equal(t, 0, *h.look(in(3, 0)).Age, "the reserve is for them")
		assert.Equal(t, int64(21), h.state(t).UsedToday)
		for n := range 10 {
			pass(2 * time.Minute)
			h.look(in(float64(n), 0))
		}
		s := h.state(t)
		assert.Equal(t, companion.UsedUp, s.Standing)
		assert.Equal(t, int64(30), s.UsedToday)
		assert.Equal(t, s.DayEnds, *s.NextTry)
		late := h.look(in(88, 88))
		assert.Equal(t, "the 30 questions of today are used up", late.Missing["wind"])
		assert.Equal(t, int(time.Until(s.DayEnds).Seconds()), *late.RefreshAfter)
		pass(time.Until(s.DayEnds) + time.Second)
		assert.NotNil(t, h.look(in(88, 88)).Category, "a new day")
	})
}

func TestAnAllowanceOfZero(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, func(s *companion.Said) { s.ADay, s.Reserve = 0, 0 })
		defer h.run(t)()
		assert.Equal(t, "the allowance is 0, so that the service is never asked", h.look(oslo).Missing["wind"])
		assert.Equal(t, companion.UsedUp, h.state(t).Standing)
		assert.Empty(t, h.weather.Asked())
	})
}

func TestTheDatabaseIsAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, nil)
		defer h.run(t)()
		require.NotNil(t, h.look(oslo).Category)
		h.rows.lock.Lock()
		h.rows.away = errors.New("away")
		h.rows.lock.Unlock()
		assert.NotNil(t, h.look(oslo).Category)
		assert.Equal(t, "the database does not answer, so that the question could not be counted", h.look(in(1, 1)).Missing["wind"])
		assert.Len(t, h.weather.Asked(), 1, "what cannot be counted is not asked")
		assert.Equal(t, companion.Answering, h.state(t).Standing, "which is not the service's fault")
	})
}

// TestAClockThatJumps: answers of a wrong future are not fresh for a year, and pauses do not last for one.
func TestAClockThatJumps(t *testing.T) {
	h := newHouse(t, nil, nil)
	now := time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)
	var lock sync.Mutex
	h.Now = func() time.Time { lock.Lock(); defer lock.Unlock(); return now }
	jump := func(to time.Time) { lock.Lock(); defer lock.Unlock(); now = to }
	defer h.run(t)()
	real := h.Now()
	jump(real.AddDate(1, 0, 0))
	require.NotNil(t, h.look(oslo).Category)
	require.NoError(t, h.weather.Fail("empty"))
	for n := range 5 {
		h.look(in(float64(n), 0))
	}
	require.NoError(t, h.weather.Fail("none"))
	before := len(h.weather.Asked())
	jump(real)
	a := h.look(oslo)
	assert.Equal(t, 0, *a.Age)
	assert.Len(t, h.weather.Asked(), before+1, "it is asked again")
	assert.NotNil(t, h.look(in(1, 0)).Category)
}

func TestWhatIsSaidAnewReadsWhatIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, nil)
		defer h.run(t)()
		h.look(oslo)
		h.save(t, func(s *companion.Said) {
			s.Values = append(s.Values, companion.Pick{Name: "cloud", Pointer: "/now/cloud", Type: "number", Unit: "%"})
			s.Categories = []companion.Category{{Name: "any", When: "cloud >= 0"}}
		})
		a := h.look(oslo)
		assert.Equal(t, "any", *a.Category)
		assert.NotNil(t, a.Values["cloud"])
		assert.Len(t, h.weather.Asked(), 1, "which costs no question")
		h.save(t, func(s *companion.Said) { s.Grid = 1 })
		assert.Nil(t, h.Running(host).Answers(oslo, false, h.Now()).Get("weather").Category, "another question is another answer")
		h.save(t, func(s *companion.Said) { s.Enabled = false })
		a = h.look(oslo)
		assert.Equal(t, "the companion is switched off", a.Missing["category"])
		assert.Nil(t, a.RefreshAfter)
		assert.Len(t, h.weather.Asked(), 1)
		require.NoError(t, h.Drop(t.Context(), h.site, "weather", "the tests"))
		assert.Empty(t, h.Running(host).Answers(oslo, true, h.Now()))
		require.ErrorIs(t, h.Drop(t.Context(), h.site, "weather", "the tests"), companion.ErrNone)
	})
}

// TestDroppedOrStoppedWhileItAsks at every moment of a question: nothing comes back, and nothing is left
// running.
func TestDroppedOrStoppedWhileItAsks(t *testing.T) {
	for n := range 60 {
		synctest.Test(t, func(t *testing.T) {
			h := newHouse(t, nil, func(s *companion.Said) { s.TimeoutMs = 10_000 })
			require.NoError(t, h.weather.Fail([]string{"slow", "hang", "none"}[n%3]))
			stop := h.run(t)
			for place := range 5 {
				h.Running(host).Answers(in(float64(place), 0), true, h.Now())
			}
			pass(time.Duration(n) * 150 * time.Millisecond)
			if n%2 == 0 {
				require.NoError(t, h.Drop(t.Context(), h.site, "weather", "the tests"))
				assert.Empty(t, h.Running(host).Answers(oslo, true, h.Now()))
			}
			stop()
			asked := len(h.weather.Asked())
			a := h.Running(host).Answers(oslo, true, h.Now())
			assert.False(t, a.Pending(), "nothing begins after the end")
			assert.Len(t, h.weather.Asked(), asked)
		})
	}
}

func TestManyPlacesTakeBoundedMemory(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHouse(t, nil, func(s *companion.Said) { s.ADay = 1_000_000 })
		defer h.run(t)()
		for n := range placesKept + 500 {
			h.look(in(float64(n%1700)/10-85, float64(n/1700)))
		}
		assert.Equal(t, placesKept, h.state(t).Places)
		assert.LessOrEqual(t, h.bodies.Len(), bodiesKept)
	})
}
