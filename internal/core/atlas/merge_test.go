package atlas_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/plain"
)

// facts are what a source says of one address, by the name in an answer.
type facts map[string]string

var mergedFacts = []string{"country_code", "region_code", "city", "postal_code", "latitude", "longitude", "radius_km", "time_zone"}

// randomFacts says some of what is known of a few places that no gazetteer knows.
func randomFacts(r *rand.Rand) facts {
	f := facts{"country_code": []string{"PT", "PT", "PT", "ES"}[r.IntN(4)]}
	some := func(fact, value string, share int) {
		if r.IntN(100) < share {
			f[fact] = value
		}
	}
	some("region_code", f["country_code"]+map[string]string{"PT": []string{"-11", "-11", "-13"}[r.IntN(3)], "ES": "-MD"}[f["country_code"]], 60)
	some("city", []string{"Ebbmouth", "Ebbmouth", "Upper Ebb"}[r.IntN(3)], 60)
	some("postal_code", []string{"1000", "2000"}[r.IntN(2)], 30)
	if r.IntN(2) == 0 {
		f["latitude"], f["longitude"] = []string{"38.5", "41.25"}[r.IntN(2)], "-8.5"
		some("radius_km", []string{"7", "400"}[r.IntN(2)], 50)
	}
	some("time_zone", []string{"Europe/Lisbon", "Atlantic/Azores"}[r.IntN(2)], 30)
	return f
}

func (f facts) line(address string) string {
	cells := []string{address}
	for _, fact := range mergedFacts {
		cells = append(cells, f[fact])
	}
	return strings.Join(cells, ",") + "\n"
}

// level is how fine the place is: of a country, region or town.
func (f facts) level() int {
	switch {
	case f["city"] != "":
		return 2
	case f["region_code"] != "":
		return 1
	}
	return 0
}

// merged is the model: each source in turn, fact by fact.
func merged(sources []facts) facts {
	card := facts{}
	for i, f := range sources {
		contradicts := false
		for _, fact := range []string{"country_code", "region_code", "city"} {
			contradicts = contradicts || i > 0 && card[fact] != "" && f[fact] != "" && card[fact] != f[fact]
		}
		if contradicts {
			continue
		}
		if i > 0 && (card["city"] == "" && f["city"] != "" || card.level() == 0 && f.level() > 0) {
			for _, fact := range []string{"latitude", "longitude", "radius_km", "time_zone"} {
				delete(card, fact) // of a wider place
			}
		}
		fine := i == 0 || f.level() >= card.level()
		radius := f["radius_km"]
		if card["latitude"] != "" && f["latitude"] != "" && card["latitude"] != f["latitude"] && f["radius_km"] != "400" {
			radius = "" // of a point elsewhere; 400 km hold both
		}
		for _, fact := range mergedFacts {
			value := f[fact]
			if fact == "radius_km" {
				value = radius
			}
			if card[fact] != "" || value == "" || !fine {
				continue
			}
			card[fact] = value
		}
	}
	return card
}

// Random sources of one range, merged fact by fact by the model: the answer has what the
// model has, what is used is in the answer, and what is in the answer somebody said.
func TestMergingAgainstAModel(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 4))
	tried, differed := 20_000, 0
	if testing.Short() {
		tried = 2000
	}
	head := "range," + strings.Join(mergedFacts, ",") + "\n"
	texts, all := [4]strings.Builder{}, make([][]facts, tried)
	for i := range texts {
		texts[i].WriteString(head)
	}
	where := func(n int) string { return fmt.Sprintf("198.18.%d.%d", n/250, n%250) }
	for n := range tried {
		for i := range 1 + r.IntN(len(texts)) {
			f := randomFacts(r)
			all[n] = append(all[n], f)
			texts[i].WriteString(f.line(where(n)))
		}
	}
	var sources []*atlas.Source
	for i := range texts {
		s, err := source.ReadTable(strings.NewReader(texts[i].String()), ',', nil, atlas.About{Name: fmt.Sprint("source ", i), Rank: i})
		require.NoError(t, err)
		require.Zero(t, s.Rejected)
		sources = append(sources, s)
	}
	a := atlas.New(sources...)
	for n, said := range all {
		found := a.Found(netip.MustParseAddr(where(n)))
		var answer map[string]any
		text, err := json.Marshal(found.Location)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, &answer))

		want, usedFacts := merged(said), map[string]int{}
		same := true
		for _, e := range found.Evidence {
			for fact, value := range e.Values {
				if e.Used {
					usedFacts[fact]++
					same = same && fmt.Sprint(answer[fact]) == value
				}
				if e.Used && e.Basis != atlas.Derived {
					same = same && want[fact] == value
				}
				if !e.Used && e.Basis != atlas.Derived && e.Source != "source 0" {
					same = same && plain.Value(e.Reason) != ""
				}
			}
		}
		for _, fact := range mergedFacts {
			if want[fact] != "" {
				same = same && fmt.Sprint(answer[fact]) == want[fact] && usedFacts[fact] == 1
			}
			same = same && (answer[fact] != nil || usedFacts[fact] == 0)
		}
		if !assert.True(t, same, "%v\nshould be %v\nis %s\n%s", said, want, text, evidenceText(found.Evidence)) {
			differed++
		}
		if differed > 3 {
			break
		}
	}
	t.Logf("%d merges: %d differed", tried, differed)
}

func evidenceText(list []atlas.Evidence) string {
	var b strings.Builder
	for _, e := range list {
		fmt.Fprintln(&b, e.Source, e.Used, e.Values, plain.Value(e.Reason))
	}
	return b.String()
}
