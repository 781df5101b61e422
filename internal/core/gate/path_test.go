package gate

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func fits(patternText, target string) bool {
	p, t := parsePattern(patternText), ReadTarget(target)
	return p.fits(&t)
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern, path string
		fits          bool
	}{
		{"/early/**", "/early", true},
		{"/early/**", "/early/", true},
		{"/early/**", "/early/a/b?x=/other", true},
		{"/early/**", "/earlybird", false},
		{"/early/**", "/x/early/a", false},
		{"/tickets", "/tickets", true},
		{"/tickets", "/tickets/", true},
		{"/tickets", "/TICKETS", true},
		{"/tickets", "/tickets/a", false},
		{"/tickets", "/?/tickets", false},
		{"/*/tickets", "/2026/tickets", true},
		{"/*/tickets", "/tickets", false},
		{"/*/tickets", "/a/b/tickets", false},
		{"/**", "/", true},
		{"/**", "/a", true},
		{"/", "/", true},
		{"/", "/a", false},
		{"/früh/**", "/fr%C3%BCh/a", true},
		{"/früh/**", "/fru%CC%88h/a", true},
		{"/early/**", "http://heronlake.example/early/x", true},
		{"/early/**", "http://heronlake.example", false},
		{"/early/**", "/other?x=#/early/x", false},
		{"/early/**", "/other?x= /early/\x01", false},
		{"/early/**", "/other|a[b]^{c}", false},
		{"/early/**", "/early/a|b[c]^{d}", true},
	} {
		assert.Equal(t, c.fits, fits(c.pattern, c.path), "%s %s", c.pattern, c.path)
	}
}

// Whatever a proxy or an application makes of a spelling, the gate of the page that comes of it is asked.
func TestSpellingsMeetTheGate(t *testing.T) {
	for _, spelling := range []string{
		"/early/eights", "/%65arly/eights", "/e%61rly%2feights", "//early/eights", "/./early/eights", "/x/../early/eights", "/x/%2e%2e/early/eights", "/x/%252e%252e/early/eights",
		"/early%2Feights", `/early\eights`, `/x/..\early/eights`, "/early;a=b/eights", "/;x/early/eights", "/EARLY/Eights", "/early./eights", "/early%20/eights", "/x//../early/eights",
		"/x/..;/early/eights", "/early/%2e/eights", "/early/eights%00.html", "/%c0%afearly/eights", "/early/eights%", "/%zz/early", "*", "", "early/eights", "/%25%32%35%36%35arly/eights",
		"/" + strings.Repeat("a", 9000), "/x\x01/early",
		"/#/../early/eights", "#", "/programme#", "/#?/x", "http://heronlake.example/#/../early/eights", "http://heronlake.example#/../early/eights", "/programme /../early/eights", "/ ",
	} {
		assert.True(t, fits("/early/**", spelling), "%q", spelling)
	}
	for _, other := range []string{"/programme", "/programme/early", "/%70rogramme", "/early/../programme/x/../y", "/a;b/c", "/x.", "/programme/%C3%A9"} {
		if !strings.Contains(other, "early/..") { // which reads as early somewhere
			assert.False(t, fits("/early/**", other), other)
		}
	}
}

// The path of a visit is told, not asked for: what was decoded in it stands for itself.
func TestPathsThatAreTold(t *testing.T) {
	early := parsePattern("/early/**")
	for path, want := range map[string]bool{"/my programme": false, "/a#b": false, "/early/my heat": true, "/early#1": false, "/early/#1": true} {
		told := ReadPath(path)
		assert.Equal(t, want, early.fits(&told), path)
	}
}

// Random spellings of a page, made by whoever wants past: what net/http, net/url and path make of each, one after
// the other and in any order, is among its readings, or the target is unreadable.
func TestEveryReadingIsKnown(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 2))
	pieces := []string{"/", "//", "/./", "/../", "early", "eights", "%2e", "%2E%2e", "%2f", "%5c", `\`, ";", ";a=1", "%252e", "%25", "a", "é", "%C3%A9", ".", "..", " ", "%20", "E"}
	unreadable := 0
	for range 60_000 {
		var b strings.Builder
		b.WriteByte('/')
		for range 1 + r.IntN(8) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		raw := b.String()
		target := ReadTarget(raw)
		if target.unreadable {
			unreadable++
			continue
		}
		known := map[string]bool{target.path: true}
		for _, other := range target.others {
			known[other] = true
		}
		decoded, err := url.PathUnescape(raw)
		require.NoError(t, err, raw)
		require.True(t, known[decoded], "%q decoded: %q of %q", raw, decoded, target.others)
		slashed := strings.ReplaceAll(decoded, `\`, "/")
		clean := path.Clean(slashed)
		require.True(t, known[clean] || known[strings.TrimSuffix(clean, "/")+"/"], "%q clean: %q of %q", raw, clean, target.others)
		twice, err := url.PathUnescape(decoded)
		require.NoError(t, err, raw)
		require.True(t, known[path.Clean(twice)] || known[strings.TrimSuffix(path.Clean(twice), "/")+"/"] || strings.Contains(twice, `\`), "%q twice: %q of %q", raw, path.Clean(twice), target.others)
	}
	assert.Less(t, unreadable, 30_000)
}

// What a real server would answer with a page of early entry never passes its gate: net/http's own mux decides which
// page a request line gets.
func TestWhatARealServerServesMeetsTheGate(t *testing.T) {
	served := ""
	mux := http.NewServeMux()
	mux.HandleFunc("/early/", func(_ http.ResponseWriter, r *http.Request) { served = r.URL.Path })
	mux.HandleFunc("/", func(http.ResponseWriter, *http.Request) {})
	r := rand.New(rand.NewPCG(18, 3))
	letters := []string{"e", "a", "r", "l", "y", "/", "%2f", ".", "%2e", "%65", "%61", "%72", "%6c", "%79", "early", "/early/", "%2F", ";", "x", "..", "//"}
	reached := 0
	for range 40_000 {
		raw := []string{"/", "//", "/./", "/x/../", "/early/../"}[r.IntN(5)]
		for _, c := range "early" {
			raw += []string{string(c), fmt.Sprintf("%%%02x", c)}[r.IntN(2)]
		}
		for range 1 + r.IntN(7) {
			raw += letters[r.IntN(len(letters))]
		}
		u, err := url.ParseRequestURI(raw)
		if err != nil {
			continue
		}
		served = ""
		mux.ServeHTTP(httptest.NewRecorder(), &http.Request{Method: "GET", URL: u, RequestURI: raw, Host: "heronlake.example"})
		if served != "" {
			reached++
			require.True(t, fits("/early/**", raw), "%q is served as %q", raw, served)
		}
	}
	t.Logf("%d reached the page", reached)
	assert.Greater(t, reached, 300)
}

func FuzzReadTarget(f *testing.F) {
	for _, seed := range []string{"/early/eights", "/%2e%2e//early;x", "*", "http://a/b", `/\..\x`, "/%", "/é%C3"} {
		f.Add(seed)
	}
	all := parsePattern("/**")
	f.Fuzz(func(t *testing.T, raw string) {
		target := ReadTarget(raw)
		assert.True(t, all.fits(&target), "everything meets a gate for all")
		for _, reading := range append(target.others, target.path) {
			assert.True(t, strings.HasPrefix(reading, "/"), fmt.Sprintf("%q of %q", reading, raw))
		}
	})
}
