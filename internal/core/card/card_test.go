package card

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/caller"
)

var now = time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC)

func pipeline(t *testing.T) *Pipeline {
	t.Helper()
	feed := "198.18.3.0/26,PT,PT-11,Lisbon,\n2001:db8:5e1:40::/64,NO,NO-03,Oslo,\n198.19.44.0/24,BR,,,\n"
	src, err := source.ReadGeofeed(strings.NewReader(feed), atlas.About{Name: "feed", Rank: 1, Credit: "Harbour Net (invented)"})
	require.NoError(t, err)
	resolve := func(p string) addr.Rule {
		return addr.Rule{Prefix: netip.MustParsePrefix(p), Action: addr.Resolve}
	}
	return &Pipeline{
		Finder: caller.Trusting(netip.MustParsePrefix("203.0.113.0/28")),
		Policy: addr.NewPolicy(resolve("198.18.0.0/15"), resolve("2001:db8::/32"),
			addr.Rule{Kind: addr.Loopback, Action: addr.Skip, Placeholder: "this machine"}),
		Atlas: atlas.New(src),
	}
}

func card(t *testing.T, ip string) Card {
	return pipeline(t).Card(netip.MustParseAddr(ip), caller.ObtainedGiven, RequestContext{}, now)
}

func TestCard(t *testing.T) {
	c := card(t, "198.18.3.40")
	assert.Equal(t, 4, *c.Address.Family)
	assert.Equal(t, addr.Benchmarking, *c.Address.Kind)
	assert.False(t, c.Address.Skipped)
	assert.Equal(t, "Lisbon", *c.Location.City)
	assert.Equal(t, "198.18.3.0/26", c.Network.Range.String())
	assert.Equal(t, "pt-PT", c.Locale.Language)
	assert.Equal(t, "2026-11-14T06:42:08+00:00", c.Clock.LocalTime.String())
	assert.Equal(t, "EUR", *c.Money.CurrencyCode)
	assert.Equal(t, []string{"Harbour Net (invented)"}, c.Edition.Credits)
}

func TestSkippedIsNeverLookedUp(t *testing.T) {
	for _, ip := range []string{"10.1.2.3", "127.0.0.1", "3fff::1", "::1", "fe80::1", "4000::1"} {
		c := card(t, ip)
		assert.True(t, c.Address.Skipped, ip)
		assert.NotNil(t, c.Address.Reason, ip)
		assert.Equal(t, atlas.None, c.Location.Level, ip)
		assert.Len(t, c.Location.Missing, 10, ip)
		assert.Empty(t, c.Evidence, ip)
		assert.Len(t, c.Network.Missing, 3, ip)
	}
	assert.Equal(t, "this machine", *card(t, "127.0.0.1").Address.Placeholder)
}

func TestAPublicAddressMayBeSkipped(t *testing.T) {
	p := pipeline(t)
	p.Policy = addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("9.9.9.0/28"), Action: addr.Skip})
	c := p.Card(netip.MustParseAddr("9.9.9.9"), caller.ObtainedGiven, RequestContext{}, now)
	assert.True(t, c.Address.Skipped)
	assert.Equal(t, "Skipped by a rule of yours.", *c.Address.Reason, "and not for being public")
}

func TestEmbeddedAddresses(t *testing.T) {
	c := card(t, "2002:c612:328::1")
	assert.Equal(t, "2002:c612:328::1", c.Address.Text.String(), "the address received stays the subject")
	assert.Equal(t, addr.Tunnel, *c.Address.Kind)
	assert.Equal(t, "198.18.3.40", c.Address.Embedded.String())
	assert.Equal(t, "Lisbon", *c.Location.City)

	private := card(t, "64:ff9b::a01:203") // 10.1.2.3
	assert.True(t, private.Address.Skipped)
	assert.Contains(t, *private.Address.Reason, "private")
}

func TestVisitorNotFound(t *testing.T) {
	c, trail := pipeline(t).Visitor(netip.MustParseAddr("203.0.113.4"), map[string][]string{"X-Forwarded-For": {"unknown"}}, RequestContext{}, now)
	assert.False(t, trail.Visitor.IsValid())
	assert.False(t, c.Address.Text.IsValid())
	assert.Nil(t, c.Address.Kind)
	assert.False(t, c.Address.Skipped)
	assert.Equal(t, trail.Reason, *c.Address.Reason)
	assert.Equal(t, atlas.None, c.Location.Level)
}

// keys lists every key of a JSON value, by path, without what stands in maps
// that a card may fill freely.
func keys(v any, path string, into map[string]bool) {
	object, ok := v.(map[string]any)
	if !ok || strings.HasSuffix(path, ".missing") {
		return
	}
	for k, inner := range object {
		into[path+"."+k] = true
		keys(inner, path+"."+k, into)
	}
}

func TestAllKeysAreAlwaysPresent(t *testing.T) {
	shape := func(c Card) map[string]bool {
		text, err := json.Marshal(c)
		require.NoError(t, err)
		var v any
		require.NoError(t, json.Unmarshal(text, &v))
		into := map[string]bool{}
		keys(v, "", into)
		return into
	}
	full := shape(card(t, "198.18.3.40"))
	assert.Contains(t, full, ".location.names.region")
	for _, ip := range []string{"10.1.2.3", "198.19.44.1", "9.9.9.9"} {
		assert.Equal(t, full, shape(card(t, ip)), ip)
	}
	assert.Equal(t, full, shape(pipeline(t).Card(netip.Addr{}, "", RequestContext{}, now)))
}

func BenchmarkCard(b *testing.B) {
	src, err := source.ReadGeofeed(strings.NewReader("198.18.3.0/26,PT,PT-11,Lisbon,\n"), atlas.About{Name: "feed", Rank: 1})
	require.NoError(b, err)
	p := Pipeline{Policy: addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: addr.Resolve}), Atlas: atlas.New(src)}
	a := netip.MustParseAddr("198.18.3.40")
	b.ReportAllocs()
	for b.Loop() {
		p.Card(a, caller.ObtainedGiven, RequestContext{AcceptLanguage: "pt-PT,pt;q=0.9"}, now)
	}
}

// changing gives another edition each time that it is asked.
type changing struct {
	editions []*atlas.Atlas
	asked    int
}

func (s *changing) Current() *atlas.Atlas {
	s.asked++
	return s.editions[(s.asked-1)%len(s.editions)]
}

func TestACardComesFromOneEdition(t *testing.T) {
	edition := func(line string) *atlas.Atlas {
		src, err := source.ReadGeofeed(strings.NewReader(line), atlas.About{Name: line[len(line)-4:], Rank: 1})
		require.NoError(t, err)
		return atlas.New(src)
	}
	source := &changing{editions: []*atlas.Atlas{edition("198.18.3.0/26,PT,,,"), edition("198.18.3.0/26,ES,,,")}}
	p := Pipeline{Policy: addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: addr.Resolve}), Atlas: source}
	for _, make := range []func(netip.Addr) Card{
		func(a netip.Addr) Card { return p.Card(a, caller.ObtainedGiven, RequestContext{}, now) },
		func(a netip.Addr) Card { return p.Why(a, RequestContext{}, now) },
	} {
		for range 2 {
			before := source.asked
			card := make(netip.MustParseAddr("198.18.3.40"))
			require.Equal(t, before+1, source.asked, "one snapshot a card")
			require.Equal(t, *card.Location.CountryCode, card.Evidence[0].Values["country_code"])
			require.Equal(t, source.editions[before%2].Name(), card.Edition.Name)
		}
	}
	aside := p.Why(netip.MustParseAddr("10.1.2.3"), RequestContext{}, now)
	require.Empty(t, aside.Evidence, "what is skipped is never looked up")
}
