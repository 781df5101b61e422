package standin

import (
	"cmp"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Failures are the ways in which [Weather] fails when it is told to.
var Failures = []string{"none", "slow", "hang", "503", "error", "html", "huge", "empty", "types", "redirect"}

// A Weather is an invented weather service: the sky anywhere at /v1/now?lat=38.7&lon=-9.1, and wind and waves
// at Heron Lake at /v1/lake. It wants a key, and fails as it is told by POST /failure?kind=503. It is safe for
// concurrent use.
type Weather struct {
	Key string // that it wants as ?key=; "" for none
	Now func() time.Time
	// Slowness is how long it takes when it is slow; 5 s by default.
	Slowness time.Duration

	mu    sync.Mutex
	kind  string
	asked []string
}

// Fail has the service fail in one of the ways of [Failures], from now on.
func (s *Weather) Fail(kind string) error {
	if !slices.Contains(Failures, kind) {
		return fmt.Errorf("%.40q is none of its failures: give %s", kind, strings.Join(Failures, ", "))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.kind = kind
	return nil
}

// Asked gives what the service was asked: each request whole, with its header.
func (s *Weather) Asked() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.asked)
}

// mostAsked bounds how many requests are remembered.
const mostAsked = 10_000

// ServeHTTP answers.
func (s *Weather) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/failure" {
		s.serveFailure(w, r)
		return
	}
	var whole strings.Builder
	fmt.Fprintf(&whole, "%s %s\nHost: %s\n", r.Method, r.URL.RequestURI(), r.Host)
	_ = r.Header.Write(&whole) // a builder takes everything
	s.mu.Lock()
	kind := s.kind
	if len(s.asked) < mostAsked {
		s.asked = append(s.asked, whole.String())
	}
	s.mu.Unlock()
	if s.Key != "" && r.URL.Query().Get("key") != s.Key {
		s.say(w, http.StatusUnauthorized, map[string]any{"error": fmt.Sprintf("the key %q is not known here", r.URL.Query().Get("key"))})
		return
	}
	if s.fails(w, r, kind) {
		return
	}
	switch r.URL.Path {
	case "/v1/now":
		lat, err := strconv.ParseFloat(r.URL.Query().Get("lat"), 64)
		lon, err2 := strconv.ParseFloat(r.URL.Query().Get("lon"), 64)
		if err != nil || err2 != nil || math.Abs(lat) > 90 || math.Abs(lon) > 180 {
			s.say(w, http.StatusBadRequest, map[string]any{"error": "lat and lon: give degrees"})
			return
		}
		s.answer(w, kind, skyAt(lat, lon, s.Now()))
	case "/v1/lake":
		s.answer(w, kind, lakeAt(s.Now()))
	default:
		http.NotFound(w, r)
	}
}

func (s *Weather) serveFailure(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodPost {
		if err := s.Fail(r.FormValue("kind")); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	fmt.Fprintln(w, "failure:", cmp.Or(s.kind, "none"))
}

// slowness is how long a slow service takes.
const slowness = 5 * time.Second

// fails answers as a service that fails; false where it does not.
func (s *Weather) fails(w http.ResponseWriter, r *http.Request, kind string) bool {
	switch kind {
	case "slow":
		select {
		case <-time.After(cmp.Or(s.Slowness, slowness)):
		case <-r.Context().Done():
		}
		return false
	case "hang":
		<-r.Context().Done()
	case "503":
		w.Header().Set("Retry-After", "60")
		http.Error(w, "busy", http.StatusServiceUnavailable)
	case "error":
		s.say(w, http.StatusOK, map[string]any{"status": "error", "message": "you asked too often with " + r.URL.RawQuery})
	case "html":
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintln(w, "<!doctype html><title>Weather</title><h1>We are moving</h1>")
	case "huge":
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"now": "`)
		for line := strings.Repeat("rain ", 2000); r.Context().Err() == nil; {
			if _, err := fmt.Fprint(w, line); err != nil {
				return true
			}
		}
	case "empty":
		w.WriteHeader(http.StatusOK)
	case "redirect":
		http.Redirect(w, r, "http://127.0.0.1:1/elsewhere?"+r.URL.RawQuery, http.StatusFound)
	default:
		return false
	}
	return true
}

// A sky is what is answered, in this order.
type sky struct {
	At     string    `json:"at"`
	Now    any       `json:"now"`
	Next   []float64 `json:"next,omitempty"`
	Credit string    `json:"credit"`
}

func (s *Weather) answer(w http.ResponseWriter, kind string, body sky) {
	if kind == "types" { // numbers are texts from one day to the next
		body.Now = map[string]any{"temp": "8.5", "cloud": "40", "rain": "0.0", "wind": "strong", "gust": "12.5", "waves": nil, "open": "true"}
	}
	w.Header().Set("Cache-Control", "max-age=1800")
	s.say(w, http.StatusOK, body)
}

func (s *Weather) say(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	out := json.NewEncoder(w)
	out.SetIndent("", "  ")
	_ = out.Encode(body) // who hung up does not read it
}

// skyAt invents the sky at a place, the same for three hours.
func skyAt(lat, lon float64, now time.Time) sky {
	slot := now.UTC().Truncate(3 * time.Hour)
	chance := func(what string, most float64) float64 {
		sum := fnv.New64a()
		fmt.Fprintf(sum, "%s %.0f %.0f %d", what, lat, lon, slot.Unix()/3600)
		return most * float64(sum.Sum64()%1000) / 999
	}
	cloud := math.Round(chance("cloud", 100))
	rain := 0.0
	if cloud > 55 {
		rain = chance("rain", 4)
	}
	season := math.Cos(2 * math.Pi * float64(slot.YearDay()-200) / 365)
	temp := 31 - math.Abs(lat)*0.4 + math.Copysign(8*math.Min(1, math.Abs(lat)/40), lat)*season + chance("warm", 4) - 2
	wind := chance("wind", 9)
	if chance("gale", 1) > 0.85 {
		wind += 12
	}
	next := make([]float64, 24)
	for i := range next {
		next[i] = tenths(temp + 3*math.Sin(float64(i)/4))
	}
	return sky{slot.Format("15:04Z"), struct {
		Temp  float64 `json:"temp"`
		Cloud float64 `json:"cloud"`
		Rain  float64 `json:"rain"`
		Wind  float64 `json:"wind"`
	}{tenths(temp), cloud, tenths(rain), tenths(wind)}, next, "Stand-in Weather (invented)"}
}

// lakeAt invents wind and waves at Heron Lake, the same for an hour.
func lakeAt(now time.Time) sky {
	hour := float64(now.UTC().Truncate(time.Hour).Unix() / 3600)
	wind := 4.5 + 3.5*math.Sin(hour/7) + math.Sin(hour/1.7)
	return sky{now.UTC().Truncate(time.Hour).Format("15:04Z"), struct {
		Wind  float64 `json:"wind"`
		Gust  float64 `json:"gust"`
		Waves float64 `json:"waves"`
		Open  bool    `json:"open"`
	}{tenths(wind), tenths(wind * 1.5), tenths(wind * wind / 90), wind < 8}, nil, "Stand-in Weather (invented)"}
}

func tenths(v float64) float64 { return math.Round(10*v)/10 + 0 }
