package httpapi

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/companion"
	"eastporch/internal/server/access"
)

// BenchmarkCompanions makes cards of a visitor with two companions whose answers are kept, and without, in
// turns: as an answer over HTTP, and the card alone, written as JSON.
func BenchmarkCompanions(b *testing.B) {
	f := newFixture(b, lisbon, nowhere{})
	site := f.opt.Public.Sites.All()[0]
	for _, name := range []string{"weather", "tide"} {
		s := weatherSaid()
		s.Parameters = s.Parameters[:3]
		_, err := f.opt.Content.Companions.Save(b.Context(), site, name, companion.Save{Said: s}, "test")
		require.NoError(b, err)
	}
	beside := site.Local.Companions
	engine, key := f.serve(b, PublicListener), f.key(b, access.Server)
	request := httptest.NewRequest(http.MethodGet, "/v1/visitor", nil)
	request.Host, request.RemoteAddr = "127.0.0.1", "127.0.0.1:40000"
	for name, value := range map[string]string{"Authorization": "Bearer " + key, "X-Forwarded-For": "198.18.3.40", "Accept-Language": "pt-PT", "Host": testSite} {
		request.Header.Set(name, value)
	}
	request.URL.RawQuery = "site=" + testSite
	answer := func() string {
		out := httptest.NewRecorder()
		engine.ServeHTTP(out, request)
		return out.Body.String()
	}
	for kept := false; !kept; {
		answers := beside.Answers(&companion.Subject{Level: "none"}, true, testNow)
		require.Len(b, answers, 2)
		made, _ := f.opt.Public.Cards.Visitor(netip.MustParseAddr("127.0.0.1"), request.Header, card.RequestContext{At: site.Local, Ask: true}, testNow)
		made.Companions.Wait(time.Minute, nil)
		kept = !made.Companions.Pending() && made.Companions.Get("tide").Category != nil
	}
	require.Contains(b, answer(), `"category":"calm"`)
	buffer := make([]byte, 0, 8192)
	alone := func() {
		made := f.opt.Public.Cards.(*card.Pipeline).Card(netip.MustParseAddr("198.18.3.40"), caller.ObtainedGiven, card.RequestContext{At: site.Local, AcceptLanguage: "pt-PT", Ask: true}, testNow)
		buffer = made.AppendJSON(buffer[:0])
	}
	const turn = 2000
	took := map[string]time.Duration{}
	time_ := func(what string, do func()) {
		begun := time.Now()
		for range turn {
			do()
		}
		took[what] += time.Since(begun)
	}
	turns := 0
	for b.Loop() {
		for _, one := range []struct {
			word string
			at   *card.Local
		}{{"with", &card.Local{Languages: site.Local.Languages, Currency: site.Local.Currency, Companions: beside}}, {"without", &card.Local{Languages: site.Local.Languages, Currency: site.Local.Currency}}} {
			site.Local = one.at
			time_("http-"+one.word+"-ns", func() { _ = answer() })
			time_("card-"+one.word+"-ns", alone)
		}
		turns += turn
	}
	for what, d := range took {
		b.ReportMetric(float64(d.Nanoseconds())/float64(turns), what)
	}
}
