package lookup

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/invalid"
)

const feed = "198.18.3.0/26,PT,PT-11,Lisbon,\n198.18.64.0/20,IT,IT-25,Milan,\n2001:db8:5e1::/48,NO,NO-03,Oslo,\n"

type inUse struct{ edition *atlas.Atlas }

func (u inUse) Current() *atlas.Atlas { return u.edition }

func service(t *testing.T, hosts func(context.Context, string) ([]netip.Addr, error)) *Lookup {
	t.Helper()
	read, err := source.ReadGeofeed(strings.NewReader(feed), atlas.About{Name: "feed", Rank: 1})
	require.NoError(t, err)
	edition := atlas.New(read)
	open := addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: addr.Resolve})
	s, err := New(Options{Cards: &card.Pipeline{Policy: open, Atlas: inUse{edition}}, Edition: inUse{edition}.Current, Hosts: hosts, Now: time.Now})
	require.NoError(t, err)
	return s
}

func TestOptionsAreRequired(t *testing.T) {
	_, err := New(Options{})
	require.Error(t, err)
}

// However an address is spelled, the card is the one of the address.
func TestSpellingsHaveOneCard(t *testing.T) {
	s := service(t, nil)
	for _, spelling := range []string{"198.18.3.40", "::ffff:198.18.3.40", "198.18.3.40:443", "[::ffff:c612:328]:443"} {
		c, err := s.Card(t.Context(), spelling, Question{})
		require.NoError(t, err, spelling)
		assert.Equal(t, "198.18.3.40", c.Address.Text.String(), spelling)
		require.NotNil(t, c.Location.City, spelling)
		assert.Equal(t, "Lisbon", *c.Location.City)
	}
}

func TestOneOfManyHasACardOrAReason(t *testing.T) {
	s := service(t, nil)
	reason := func(err error) string { return "because: " + err.Error() }
	good := s.One(t.Context(), "198.18.3.40", Question{}, reason)
	assert.NotNil(t, good.Card)
	assert.Nil(t, good.Problem)
	assert.Nil(t, good.Spelling, "it was spelled plainly")
	bad := s.One(t.Context(), "198.18.3.400", Question{}, reason)
	assert.Nil(t, bad.Card)
	assert.Contains(t, *bad.Problem, "because: ")
	assert.NotNil(t, s.One(t.Context(), "198.18.3.40:443", Question{}, reason).Spelling)

	require.Error(t, Check(nil))
	require.NoError(t, Check(make([]string, MaxAddresses)))
	require.Error(t, Check(make([]string, MaxAddresses+1)))
}

func TestHostNamesAreOnlyResolvedWhereThatIsWanted(t *testing.T) {
	asked := 0
	hosts := func(_ context.Context, host string) ([]netip.Addr, error) {
		asked++
		if host != "boats.heronlake.example" {
			return nil, errors.New("no such host")
		}
		return []netip.Addr{netip.MustParseAddr("198.18.64.1"), netip.MustParseAddr("198.18.3.1")}, nil
	}
	_, err := service(t, nil).Card(t.Context(), "boats.heronlake.example", Question{})
	require.Error(t, err)
	s := service(t, hosts)
	c, err := s.Card(t.Context(), "boats.heronlake.example.", Question{})
	require.NoError(t, err)
	assert.Equal(t, "Milan", *c.Location.City)
	assert.Contains(t, *c.Address.Reason, "has 2 addresses; this is the first.")
	_, err = s.Card(t.Context(), "nobody.heronlake.example", Question{})
	var wrong *invalid.FieldError
	require.ErrorAs(t, err, &wrong)
	asked = 0
	for _, never := range []string{"198.18.3.400", "a b.example", "x", strings.Repeat("a.", 200) + "example", "héron.example"} {
		_, err = s.Card(t.Context(), never, Question{})
		require.Error(t, err, never)
	}
	assert.Zero(t, asked, "what is no host name is asked of nobody")
}

// The shares of a range against every address of it, looked up by itself.
func TestARangeIsTheSumOfItsAddresses(t *testing.T) {
	s := service(t, nil)
	r := rand.New(rand.NewPCG(16, 4))
	for range 60 {
		first := uint32(0xc6120000) + r.Uint32N(1<<15)
		last := first + r.Uint32N(3000)
		at := func(n uint32) netip.Addr {
			return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
		}
		answer, err := s.Range(fmt.Sprintf("%s-%s", at(first), at(last)))
		require.NoError(t, err)
		require.True(t, answer.Complete)
		want := map[string]float64{}
		for n := first; n <= last; n++ {
			c, err := s.Card(t.Context(), at(n).String(), Question{})
			require.NoError(t, err)
			code := ""
			if c.Location.CountryCode != nil {
				code = *c.Location.CountryCode
			}
			want[code] += 1 / float64(last-first+1)
		}
		got := map[string]float64{}
		for _, share := range answer.Shares {
			got[share.CountryCode] += share.Share.Share
		}
		require.Len(t, got, len(want))
		for code, part := range want {
			require.InDelta(t, part, got[code], 1e-9, code)
		}
	}
}

// A range that is not looked at whole says how far.
func TestARangeThatIsTooMuchSaysHowFar(t *testing.T) {
	s := service(t, nil)
	answer, err := RangeOf(s.Edition(), "0.0.0.0/0", 2)
	require.NoError(t, err)
	assert.False(t, answer.Complete)
	assert.NotEqual(t, answer.Range, answer.LookedAt)
	_, err = s.Range("198.18.3.0/33")
	var wrong *invalid.FieldError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, "range", wrong.Field)
}

// The towns near a point against all towns, measured by another formula.
func TestTownsNearAreTheNearest(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 5))
	for range 40 {
		p := geo.Point{Latitude: 180*r.Float64() - 90, Longitude: 360*r.Float64() - 180}
		people := []int{0, 100_000, 1_000_000}[r.IntN(3)]
		answer := TownsNear(p, 3, people)
		require.Len(t, answer.Towns, 3)
		nearest := math.Inf(1)
		for _, town := range gazetteer.Towns() {
			if town.Population >= people {
				nearest = min(nearest, kilometres(p, town.Point))
			}
		}
		require.InDelta(t, nearest, answer.Towns[0].Km, 0.1+nearest/500)
		require.LessOrEqual(t, answer.Towns[0].Km, answer.Towns[1].Km)
		require.LessOrEqual(t, answer.Towns[1].Km, answer.Towns[2].Km)
		require.Equal(t, answer.Towns[0].CountryCode, answer.Country.CountryCode)
	}
}

// kilometres goes by the angle between vectors.
func kilometres(a, b geo.Point) float64 {
	vector := func(p geo.Point) [3]float64 {
		lat, long := p.Latitude*math.Pi/180, p.Longitude*math.Pi/180
		return [3]float64{math.Cos(lat) * math.Cos(long), math.Cos(lat) * math.Sin(long), math.Sin(lat)}
	}
	u, v := vector(a), vector(b)
	cross := math.Hypot(math.Hypot(u[1]*v[2]-u[2]*v[1], u[2]*v[0]-u[0]*v[2]), u[0]*v[1]-u[1]*v[0])
	return 6371.0088 * math.Atan2(cross, u[0]*v[0]+u[1]*v[1]+u[2]*v[2])
}

func TestSamplesLieWhereTheyAreAskedFor(t *testing.T) {
	s := service(t, nil)
	some, err := s.Samples("PT", "Lisbon", 20, 7)
	require.NoError(t, err)
	require.NotEmpty(t, some.Samples)
	for _, sample := range some.Samples {
		c, err := s.Card(t.Context(), sample.Address, Question{})
		require.NoError(t, err)
		assert.Equal(t, "PT", *c.Location.CountryCode)
	}
	again, err := s.Samples("PT", "Lisbon", 20, 7)
	require.NoError(t, err)
	assert.Equal(t, some, again)
	_, err = s.Samples("XX", "", 1, 1)
	require.Error(t, err)
}
