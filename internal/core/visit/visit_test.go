package visit

import (
	"encoding/json"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
)

// After truncation no part of a stored visit tells the whole address, nor a
// range that is narrower than what the mode keeps.
var now = time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC)

func pipeline(t *testing.T) *card.Pipeline {
	t.Helper()
	feed := "198.18.3.0/26,PT,PT-11,Lisbon,\n2001:db8:5e1:40::/64,NO,NO-03,Oslo,\n198.19.44.0/24,BR,,,\n"
	src, err := source.ReadGeofeed(strings.NewReader(feed), atlas.About{Name: "feed", Rank: 1, Credit: "Harbour Net (invented)"})
	require.NoError(t, err)
	resolve := func(p string) addr.Rule {
		return addr.Rule{Prefix: netip.MustParsePrefix(p), Action: addr.Resolve}
	}
	return &card.Pipeline{
		Finder: caller.Trusting(netip.MustParsePrefix("203.0.113.0/28")),
		Policy: addr.NewPolicy(resolve("198.18.0.0/15"), resolve("2001:db8::/32"),
			addr.Rule{Kind: addr.Loopback, Action: addr.Skip, Placeholder: "this machine"}),
		Atlas: atlas.New(src),
	}
}

// kept is what a mode leaves of a visit, which stays as it is.
func kept(v Visit, mode Mode, hash string) Visit {
	v.Keep(mode, hash)
	return v
}

func TestTruncatedVisitsTellNoMore(t *testing.T) {
	p := pipeline(t)
	for _, ip := range []string{"198.18.3.40", "2001:db8:5e1:40::1f", "2002:c612:328::77", "198.19.44.9"} {
		for _, list := range []string{ip, ip + ", 203.0.113.10", "192.0.2.10, " + ip, ip + ", unknown"} {
			v := Visit{Site: "heronlake.example", Path: "/"}
			v.Card, v.Trail = p.Visitor(netip.MustParseAddr("203.0.113.4"), map[string][]string{"X-Forwarded-For": {list}}, card.RequestContext{}, now)
			text, err := json.Marshal(kept(v, Truncated, ""))
			require.NoError(t, err)
			for _, secret := range []string{ip, "198.18.3.40", "198.18.3.0/26", "5e1:40", "192.0.2.10", "203.0.113.10", "/64"} {
				assert.NotContains(t, string(text), secret, "%s as %s", ip, list)
			}
			whole, err := json.Marshal(kept(v, Whole, ""))
			require.NoError(t, err)
			assert.Contains(t, string(whole), ip)
		}
	}
}

// Hashed and unkept visits tell no part of any address but the proxies', and no
// range, wherever the visitor or others may have written it.
func TestHashedAndUnkeptVisitsTellNothing(t *testing.T) {
	p := pipeline(t)
	for _, ip := range []string{"198.18.3.40", "2001:db8:5e1:40::1f", "2002:c612:328::77", "10.1.2.3"} {
		for _, list := range []string{ip, ip + ", 203.0.113.10", "192.0.2.10, " + ip, ip + ", unknown", ip + ", " + ip} {
			v := Visit{Site: "heronlake.example", Path: "/"}
			v.Card, v.Trail = p.Visitor(netip.MustParseAddr("203.0.113.4"), map[string][]string{"X-Forwarded-For": {list}, "X-Real-Ip": {ip}}, card.RequestContext{}, now)
			for mode, word := range map[Mode]string{Hashed: "hash 0011", Nothing: NotKept} {
				text, err := json.Marshal(kept(v, mode, "hash 0011"))
				require.NoError(t, err)
				for _, secret := range []string{ip, "198.18.", "5e1", "192.0.2.", "10.1.2", "c612", "/26", "/24", "/48", "/64"} {
					said := strings.ReplaceAll(string(text), "203.0.113.0/24", "the proxies") // who may be named
					require.NotContains(t, said, secret, "%s as %s, %s", ip, list, mode)
				}
				if v.Card.Address.Text.IsValid() {
					assert.Equal(t, word, *kept(v, mode, "hash 0011").Card.Address.Placeholder)
				}
			}
		}
	}
}

func TestRowsAndPlaces(t *testing.T) {
	v := Visit{ID: uuid.Must(NewID(now, strings.NewReader("0123456789"))), Time: now, Site: "heronlake.example", Path: "/", Marks: []string{}, Earlier: []EarlierFacts{}}
	v.Card, v.Trail = pipeline(t).Visitor(netip.MustParseAddr("198.18.3.40"), nil, card.RequestContext{}, now)
	v.Keep(Whole, "")
	row, facts, err := v.Row()
	require.NoError(t, err)
	back, err := row.Visit(facts)
	require.NoError(t, err)
	assert.Equal(t, v, back)
	assert.Equal(t, int16(5*24+6), *row.WeekHour, "a Saturday, six in Lisbon")
	assert.True(t, row.Counted())
	same, _, err := v.Row()
	require.NoError(t, err)
	assert.Equal(t, row.FactsID, same.FactsID)
}

// Facts that have one key are the same, whatever sources, modes and
// corrections made them.
func TestAnswerKeysTellAnswersApart(t *testing.T) {
	read := func(rank int, feed string) *atlas.Source {
		src, err := source.ReadGeofeed(strings.NewReader(feed), atlas.About{Name: "feed", Rank: rank, Dated: "2026-11-01"})
		require.NoError(t, err)
		return src
	}
	table, err := source.ReadTable(strings.NewReader("range,country_code,city,as_number,operator,labels\n198.18.0.0/15,PT,,64496,Lake,\n198.18.3.0/25,ES,Madrid,,,office\n198.18.3.64/26,PT,Porto,64497,,\n"), ',', nil, atlas.About{Name: "table", Rank: 2})
	require.NoError(t, err)
	p := pipeline(t)
	seen := map[string]string{}
	for _, edition := range []*atlas.Atlas{
		atlas.New(read(1, "198.18.3.0/26,PT,PT-11,Lisbon,\n198.18.4.0/24,ZZ,,,\n"), table),
		atlas.New(table, read(3, "198.18.3.0/26,PT,,,\n")),
	} {
		p.Atlas = edition
		for last := range 256 {
			for _, net := range []byte{3, 4, 5} {
				v := Visit{}
				v.Card = p.Card(netip.AddrFrom4([4]byte{198, 18, net, byte(last)}), caller.ObtainedGiven, card.RequestContext{}, now)
				for _, mode := range []Mode{Whole, Truncated, Nothing} {
					c := kept(v, mode, "").Card
					text, err := json.Marshal(EditionFacts{c.Location, c.Network, c.Evidence, c.Money, c.Edition})
					require.NoError(t, err)
					key := string(appendFactsKey(nil, &c))
					if known, ok := seen[key]; ok {
						require.Equal(t, known, string(text))
					}
					seen[key] = string(text)
				}
			}
		}
	}
	assert.Greater(t, len(seen), 10)
}

func TestReferrerHosts(t *testing.T) {
	for referrer, want := range map[string]string{
		"https://Rowing-News.example:8443/x?y": "rowing-news.example", "https://heronlake.example/programme": "", "nonsense": "", "http://[::1": "", "": "",
	} {
		assert.Equal(t, want, ReferrerHost(&referrer, "heronlake.example"), referrer)
	}
	assert.Empty(t, ReferrerHost(nil, "heronlake.example"))
}

func TestMarks(t *testing.T) {
	m := Marker{BotAgents: []string{"Bot", "curl/"}, MonitorAgents: []string{"RegattaWatch"}, BotLabels: []string{"data-centre"}, MonitorLabels: []string{"monitoring"}}.Lower()
	agent := func(s string) *string { return &s }
	for _, tt := range []struct {
		agent  *string
		labels []string
		want   []string
	}{
		{agent("Mozilla/5.0 (compatible; SomeBOT/1.0)"), nil, []string{MarkBot}},
		{agent("CURL/8"), nil, []string{MarkBot}},
		{agent("regattawatch bot"), nil, []string{MarkMonitor}},
		{agent("Mozilla/5.0 Firefox"), []string{"office"}, []string{}},
		{agent("Mozilla/5.0 Firefox"), []string{"data-centre"}, []string{MarkBot}},
		{nil, []string{"monitoring", "data-centre"}, []string{MarkMonitor}},
		{nil, nil, []string{}},
	} {
		assert.Equal(t, tt.want, m.Marks(tt.agent, tt.labels), tt)
	}
}

func TestAttributes(t *testing.T) {
	for text, wrong := range map[string]string{
		`{"a": [1, {"b": "c"}]}`: "", `null`: "", ``: "", `[1]`: "object", `{"a"`: "JSON", `{"a":"` + strings.Repeat("x", MaxAttributes) + `"}`: "bytes",
		`{"a":{"b":{"c":{"d":[1]}}}}`: "deeper", `{"a":1e999}`: "too large", `{"a":"\u0000"}`: "control", `{"a\u0001":1}`: "control", `{"a":{"b":{"c":1}}}`: "",
	} {
		short, err := CheckAttributes(json.RawMessage(text))
		if wrong != "" {
			require.ErrorContains(t, err, wrong, text)
			continue
		}
		require.NoError(t, err, text)
		assert.NotContains(t, string(short), " ")
	}
}

func TestTheOwnersWordStandsForTheAddress(t *testing.T) {
	v := Visit{}
	v.Card, v.Trail = pipeline(t).Visitor(netip.MustParseAddr("127.0.0.1"), nil, card.RequestContext{}, now)
	for _, mode := range []Mode{Whole, Truncated, Hashed, Nothing} {
		text, err := json.Marshal(kept(v, mode, "hash 1"))
		require.NoError(t, err)
		assert.NotContains(t, string(text), "127.0.0", mode)
		assert.Contains(t, string(text), "this machine", mode)
	}
}

func TestIDs(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	source := readerFunc(func(p []byte) (int, error) {
		for i := range p {
			p[i] = byte(r.Uint32())
		}
		return len(p), nil
	})
	at := now.Add(123 * time.Millisecond)
	one, err := NewID(at, source)
	require.NoError(t, err)
	two, err := NewID(at.Add(time.Millisecond), source)
	require.NoError(t, err)
	assert.Equal(t, uuid.Version(7), one.Version())
	assert.Equal(t, uuid.RFC4122, one.Variant())
	assert.Less(t, one.String(), two.String(), "ids sort by time")
	back, ok := TimeOf(one)
	assert.True(t, ok)
	assert.Equal(t, at, back)
	_, ok = TimeOf(uuid.New())
	assert.False(t, ok, "version 4 has no time")
	_, err = NewID(at, strings.NewReader(""))
	assert.Error(t, err)
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

func TestModes(t *testing.T) {
	for _, m := range []Mode{Truncated, Whole, Hashed, Nothing} {
		back, ok := ParseMode(m.String())
		assert.True(t, ok)
		assert.Equal(t, m, back)
	}
	_, ok := ParseMode("hole")
	assert.False(t, ok)
	assert.Equal(t, Truncated, Mode(0), "the zero mode keeps less")
}

// Rows of before localization was whole read back with every key of the card.
func TestRowsOfBeforeReadBackWhole(t *testing.T) {
	id, err := NewID(now, strings.NewReader("ten random bytes"))
	require.NoError(t, err)
	r := Row{
		ID: id, Site: "heronlake.example", Path: "/", Language: "pt-PT", Trail: []byte(`{}`),
		Card: []byte(`{"address":{"text":null,"obtained":"header"},"labels":[],"locale":{"language":"pt-PT","direction":"ltr","reason":"country","offered":["pt-PT","en"]},"clock":{"time_zone":null}}`),
	}
	v, err := r.Visit([]byte(`{"location":{"level":"country","country_code":"PT"},"money":{"currency_code":"EUR","symbol":"€","minor_units":2,"display_digits":2}}`))
	require.NoError(t, err)
	assert.Equal(t, "Portugal", *v.Card.Locale.Names.Country)
	assert.Equal(t, []string{"Latn", "pt-PT", "português europeu"}, []string{v.Card.Locale.Script, v.Card.Locale.Formatting, v.Card.Locale.Names.Language})
	text := string(v.Card.AppendJSON(nil))
	assert.Contains(t, text, `"hints":[]`)
	assert.Contains(t, text, `"also":[],"rate":null`)
	assert.Contains(t, text, `"variants":{},"companions":{},"gate":null,"device":null`)
}
