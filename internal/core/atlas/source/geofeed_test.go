package source

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
)

func feedOf(t *testing.T, rank int, lines ...string) *atlas.Source {
	t.Helper()
	s, err := ReadGeofeed(strings.NewReader(strings.Join(lines, "\n")), atlas.About{Name: "feed", Rank: rank, Dated: "2026-10-28"})
	require.NoError(t, err)
	return s
}

func at(a *atlas.Atlas, ip string) atlas.LookupResult { return *a.Lookup(netip.MustParseAddr(ip)) }

func TestReadGeofeedKeepsTheGoodLines(t *testing.T) {
	s := feedOf(t, 1,
		"\ufeff# a comment",
		"198.18.3.0/26,PT,PT-11,Lisbon,1000-001",
		"",
		"198.18.7.1/24,ES,ES-VC,Valencia,",  // 4: host bits
		"198.18.3.0/26,PT,PT-13,Porto,",     // 5: twice
		"198.18.8.0/24,UK,,London,",         // 6: no code of ISO 3166-1
		"198.18.9.0/24,ES,PT-11,Madrid,",    // 7: a region outside its country
		"198.18.10.0/24,es",                 // 8: trailing fields missing, small letters
		"198.18.11.0/24,,,,",                // 9: do not locate
		"198.18.12.0/24,ZZ",                 // 10: do not locate
		"198.18.13.0/24,,,Lisbon,",          // 11: a town without a country
		"999.18.13.0/24,PT,,,",              // 12: no prefix
		"2001:db8::/32,NO,NO-03,Oslo,",      // 13
		`198.18.14.0/24,PT,PT-11,"Lisbon,`,  // 14: an open quote
		"198.18.15.0/24,ES,ES-XX,Valencia,", // 15: no code of ISO 3166-2
		"198.18.16.0/24,PT,,,",
		"198.18.17.0/24,PT,,,",
	)
	assert.Equal(t, 15, s.Rows)
	assert.Equal(t, 9, s.Accepted)
	reasons := map[int]string{}
	for _, n := range append(s.Rejects(), s.Remarks()...) {
		reasons[n.Line] = n.Reason
	}
	for line, part := range map[int]string{
		4: "did you mean 198.18.7.0/24?", 5: "stands on line 2 already", 6: "did you mean GB?", 7: "lies outside ES",
		11: "without a country", 12: "not a prefix", 14: "quotes", 15: "ISO 3166-2",
	} {
		assert.Contains(t, reasons[line], part, "line %d", line)
	}
	assert.Len(t, reasons, 8)

	a := atlas.New(s)
	assert.Equal(t, "PT-11", *at(a, "198.18.3.1").Location.RegionCode, "the first of two lines stands")
	assert.Nil(t, at(a, "198.18.3.1").Location.PostalCode, "the postal column is ignored")
	assert.Equal(t, "Madrid", *at(a, "198.18.9.1").Location.City)
	assert.Equal(t, "ES-MD", *at(a, "198.18.9.1").Location.RegionCode, "from the gazetteer, not from the feed")
	assert.Equal(t, atlas.Country, at(a, "198.18.10.1").Location.Level)
	for _, ip := range []string{"198.18.11.1", "198.18.12.1"} {
		assert.Equal(t, atlas.None, at(a, ip).Location.Level)
		assert.Contains(t, at(a, ip).Location.Missing["country_code"], "not to be located")
	}
	assert.Equal(t, "Oslo", *at(a, "2001:db8::1").Location.City)
}

func TestReadGeofeedRefusesWhatIsNone(t *testing.T) {
	_, err := ReadGeofeed(strings.NewReader("{\n\"a\": 1\n}\n"), atlas.About{Name: "json"})
	require.ErrorIs(t, err, compile.ErrTooManyRejects)
	assert.ErrorContains(t, err, "line 1")
	_, err = ReadGeofeed(strings.NewReader(strings.Repeat("x", maxLine+10)), atlas.About{})
	assert.ErrorContains(t, err, "longer than")
	empty := feedOf(t, 1, "# nothing yet")
	assert.Equal(t, atlas.None, at(atlas.New(empty), "198.18.3.1").Location.Level)
}

func FuzzGeofeed(f *testing.F) {
	f.Add("198.18.3.0/26,PT,PT-11,Lisbon,\n")
	f.Add("\"\n,,,,\n::/0,zz\n")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ReadGeofeed(strings.NewReader(text), atlas.About{})
		if err == nil && s.Accepted+len(s.Rejects()) != s.Rows {
			t.Errorf("%d rows, %d accepted, %d rejected", s.Rows, s.Accepted, len(s.Rejects()))
		}
	})
}
