package synthetic

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/visit"
)

// networksPerTown is how many ranges there are of each town.
const networksPerTown = 3

// Visits makes visits of a site, spread over a time, whose towns, paths and
// referrers are as uneven as real ones: few have most of the visits. The same
// seed gives the same visits. Their addresses are of 198.18.0.0/15.
type Visits struct {
	r      *rand.Rand
	site   string
	from   time.Time
	span   time.Duration
	places []shared
	pick   *rand.Zipf
	paths  *rand.Zipf
}

// shared is what the visits of one range share.
type shared struct {
	facts json.RawMessage
	id    uuid.UUID
	zone  *time.Location
	start netip.Addr
}

// NewVisits makes a source of visits of towns of the gazetteer's most peopled.
func NewVisits(seed uint64, site string, towns int, from, to time.Time) *Visits {
	a := &Visits{r: rand.New(rand.NewPCG(seed, 3)), site: site, from: from, span: to.Sub(from)}
	list := slices.Clone(gazetteer.Towns())
	slices.SortStableFunc(list, func(a, b gazetteer.Town) int { return b.Population - a.Population })
	list = list[:min(towns, len(list))]
	a.r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	for i := range list {
		zone, err := time.LoadLocation(list[i].Zone)
		if err != nil {
			zone = time.UTC
		}
		for n := range networksPerTown {
			a.places = append(a.places, a.place(&list[i], zone, i*networksPerTown+n))
		}
	}
	a.pick = rand.NewZipf(a.r, 1.3, 8, uint64(len(a.places)-1))
	a.paths = rand.NewZipf(a.r, 1.4, 3, 1999)
	return a
}

func (a *Visits) place(t *gazetteer.Town, zone *time.Location, nth int) shared {
	start := netip.AddrFrom4([4]byte{198, 18 + byte(nth>>13&1), byte(nth >> 5), byte(nth << 3)})
	within := addr.OptionalRange{Range: addr.RangeOf(netip.PrefixFrom(start, 29))}
	operator, number, radius := fmt.Sprintf("Network %d (invented)", nth%400), uint32(64496+nth%16), t.RadiusKm()
	w := atlas.Location{
		Level: atlas.City, CountryCode: &t.Country, City: &t.Name, Latitude: &t.Point.Latitude, Longitude: &t.Point.Longitude, RadiusKm: &radius,
		TimeZone: &t.Zone, Missing: map[string]string{"postal_code": "the source gives none here"},
	}
	if t.Region != "" {
		w.RegionCode = &t.Region
	}
	rank, dated := 1, "2026-11-01"
	v := visit.Visit{Card: card.Card{
		Location: w, Network: atlas.Network{Range: within, ASNumber: &number, Operator: &operator, Missing: map[string]string{}},
		Evidence: []atlas.Evidence{{
			Facts: []string{"country_code", "city"}, Values: map[string]string{"country_code": t.Country, "city": t.Name}, Basis: "self-published claim",
			Source: "Synthetic", Rank: &rank, Range: within, Dated: &dated, Used: true,
		}},
		Edition: card.EditionRef{Name: "2026-11-01-5f3a77c4", Credits: []string{}},
	}}
	row, facts, _ := v.Row() // which is JSON of ours
	return shared{facts, row.FactsID, zone, start}
}

var (
	agents = []string{
		"Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
		"Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 Chrome/150.0.0.0 Safari/537.36",
		"Mozilla/5.0 (iPhone; CPU iPhone OS 19_0 like Mac OS X) AppleWebKit/605.1.15 Version/19.0 Mobile/15E148 Safari/604.1",
	}
	languages = []string{"en", "de-DE", "fr-FR", "pt-PT", "ja-JP", "es-ES", "nb-NO", "it-IT"}
)

// Next gives the next visit; their times are in no order within the span.
func (a *Visits) Next() visit.QueuedVisit { return a.At(time.Duration(a.r.Int64N(int64(a.span)))) }

// At gives a visit at a time after the beginning.
func (a *Visits) At(after time.Duration) visit.QueuedVisit {
	at := a.from.Add(after).UTC().Truncate(time.Millisecond)
	p := a.places[a.pick.Uint64()]
	bytes := p.start.As4()
	bytes[3] |= byte(a.r.IntN(8))
	ip := netip.AddrFrom4(bytes)
	local := at.In(p.zone)
	hour := int16((int(local.Weekday())+6)%7*24 + local.Hour())
	kind := addr.KindOf(ip)
	row := visit.Row{
		ID: a.id(at), Site: a.site, Path: fmt.Sprintf("/page/%d", a.paths.Uint64()), UserAgent: &agents[a.r.IntN(len(agents))],
		Address: addr.Optional{Addr: ip}, Kind: &kind, Language: languages[a.r.IntN(len(languages))], WeekHour: &hour,
		VisitorHash: int64(binary.BigEndian.Uint32(bytes[:]))<<8 + int64(a.r.IntN(3)) + 1, FactsID: p.id,
	}
	if a.r.IntN(3) == 0 {
		referrer := fmt.Sprintf("https://site%d.example/page", a.r.IntN(40))
		row.Referrer = &referrer
	}
	if a.r.IntN(20) == 0 {
		row.Marks = []string{visit.MarkBot}
	}
	text := local.Format("2006-01-02T15:04:05-07:00")
	row.Card = fmt.Appendf(nil, `{"address":{"text":%q,"family":4,"kind":%q,"obtained":"header","skipped":false,"placeholder":null,"embedded":null,"reason":null},`+
		`"labels":[],"locale":{"language":%q,"direction":"ltr","reason":"accept-language","offered":[%q,"en"]},`+
		`"clock":{"time_zone":%q,"local_time":%q,"utc_offset":%q,"next_change":null}}`,
		ip, kind, row.Language, row.Language, p.zone, text, text[19:])
	row.Trail = fmt.Appendf(nil, `{"visitor":%q,"obtained":"header","own_network":false,"reason":"The first address from the right that is not a trusted proxy.","hops":[`+
		`{"source":"peer","index":0,"of":0,"text":"203.0.113.4","address":"203.0.113.4","kind":"documentation","labels":[],"verdict":"trusted","rule":"203.0.113.0/28","reason":"203.0.113.4 is one of your proxies (203.0.113.0/28), so the header is read."},`+
		`{"source":"X-Forwarded-For","index":1,"of":1,"text":%q,"address":%q,"kind":%q,"labels":[],"verdict":"visitor","rule":null,"reason":"%s is the first from the right that is not a trusted proxy."}],"omitted":0,"notes":[]}`,
		ip, ip, ip, kind, ip)
	return visit.QueuedVisit{Row: row, Facts: p.facts}
}

func (a *Visits) id(at time.Time) uuid.UUID {
	var bits [10]byte
	binary.BigEndian.PutUint64(bits[:], a.r.Uint64())
	binary.BigEndian.PutUint16(bits[8:], uint16(a.r.Uint32()))
	id, _ := visit.NewID(at, &tenBytes{bits: bits}) // which never fails
	return id
}

type tenBytes struct {
	bits [10]byte
}

func (b *tenBytes) Read(p []byte) (int, error) { return copy(p, b.bits[:]), nil }
