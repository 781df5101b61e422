package demo

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"eastporch/api"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// Seed is the seed that the demo's visits are made from.
const Seed = 14

// days is how far back the visits reach.
const days = 30

// network is one where visitors come from, with how many do.
type network struct {
	prefix   netip.Prefix
	weight   int
	language string // Accept-Language
	zone     string // shapes the hours of its visits
}

var networks = []network{
	{netip.MustParsePrefix("198.18.3.0/26"), 60, "pt-PT,pt;q=0.9,en;q=0.5", "Europe/Lisbon"},
	{netip.MustParsePrefix("198.18.3.64/26"), 18, "pt-PT,pt;q=0.9", "Europe/Lisbon"},
	{netip.MustParsePrefix("198.18.7.0/24"), 24, "es-ES,es;q=0.9", "Europe/Madrid"},
	{netip.MustParsePrefix("198.18.8.0/24"), 16, "es-ES,es;q=0.9", "Europe/Madrid"},
	{netip.MustParsePrefix("198.18.16.0/22"), 48, "en-GB,en;q=0.9", "Europe/London"},
	{netip.MustParsePrefix("198.18.20.0/24"), 12, "en-GB", "Europe/London"},
	{netip.MustParsePrefix("198.18.24.0/23"), 30, "fr-FR,fr;q=0.9", "Europe/Paris"},
	{netip.MustParsePrefix("198.18.26.0/24"), 12, "fr-FR", "Europe/Paris"},
	{netip.MustParsePrefix("198.18.29.0/24"), 9, "fr-FR", "Europe/Paris"},
	{netip.MustParsePrefix("198.18.32.0/23"), 26, "de-DE,de;q=0.9", "Europe/Berlin"},
	{netip.MustParsePrefix("198.18.34.0/24"), 14, "de-DE", "Europe/Berlin"},
	{netip.MustParsePrefix("198.18.36.0/24"), 22, "nl-NL,en;q=0.7", "Europe/Amsterdam"},
	{netip.MustParsePrefix("198.18.40.0/24"), 18, "en-CA", "America/Toronto"},
	{netip.MustParsePrefix("198.18.41.0/24"), 22, "fr-CA,en;q=0.6", "America/Toronto"},
	{netip.MustParsePrefix("198.18.44.0/24"), 20, "en-US", "America/New_York"},
	{netip.MustParsePrefix("198.18.45.0/24"), 8, "en-US", "America/Los_Angeles"},
	{netip.MustParsePrefix("198.18.46.0/24"), 5, "en-US", "America/New_York"},
	{netip.MustParsePrefix("198.18.50.0/24"), 10, "en-US", "America/Chicago"},
	{netip.MustParsePrefix("198.18.64.0/24"), 26, "it-IT", "Europe/Rome"},
	{netip.MustParsePrefix("198.18.65.0/24"), 16, "it-IT", "Europe/Rome"},
	{netip.MustParsePrefix("198.18.70.0/24"), 15, "sv-SE", "Europe/Stockholm"},
	{netip.MustParsePrefix("198.18.72.0/24"), 9, "fi-FI", "Europe/Helsinki"},
	{netip.MustParsePrefix("198.18.74.0/24"), 18, "da-DK", "Europe/Copenhagen"},
	{netip.MustParsePrefix("198.18.76.0/24"), 12, "pl-PL", "Europe/Warsaw"},
	{netip.MustParsePrefix("198.18.78.0/24"), 20, "de-AT", "Europe/Vienna"},
	{netip.MustParsePrefix("198.18.80.0/24"), 8, "hu-HU", "Europe/Budapest"},
	{netip.MustParsePrefix("198.18.82.0/24"), 12, "en-IE", "Europe/Dublin"},
	{netip.MustParsePrefix("198.18.90.0/24"), 18, "en-NZ", "Pacific/Auckland"},
	{netip.MustParsePrefix("198.18.91.0/24"), 16, "en-AU", "Australia/Sydney"},
	{netip.MustParsePrefix("198.18.92.0/24"), 9, "en-AU", "Australia/Melbourne"},
	{netip.MustParsePrefix("198.18.112.0/24"), 11, "sw-KE,en;q=0.8", "Africa/Nairobi"},
	{netip.MustParsePrefix("198.18.120.0/24"), 8, "en-ZA", "Africa/Johannesburg"},
	{netip.MustParsePrefix("198.18.128.0/24"), 7, "ar-EG", "Africa/Cairo"},
	{netip.MustParsePrefix("198.18.200.0/24"), 4, "en", "UTC"},
	{netip.MustParsePrefix("198.19.44.0/24"), 16, "pt-BR", "America/Sao_Paulo"},
	{netip.MustParsePrefix("198.19.45.0/24"), 14, "pt-BR", "America/Sao_Paulo"},
	{netip.MustParsePrefix("198.19.60.0/24"), 9, "es-AR", "America/Argentina/Buenos_Aires"},
	{netip.MustParsePrefix("198.19.64.0/24"), 6, "es-CL", "America/Santiago"},
	{netip.MustParsePrefix("198.19.70.0/24"), 7, "es-MX", "America/Mexico_City"},
	{netip.MustParsePrefix("198.19.140.0/24"), 22, "ja-JP", "Asia/Tokyo"},
	{netip.MustParsePrefix("198.19.141.0/24"), 14, "ja-JP", "Asia/Tokyo"},
	{netip.MustParsePrefix("198.19.150.0/24"), 8, "ko-KR", "Asia/Seoul"},
	{netip.MustParsePrefix("198.19.160.0/24"), 6, "en-SG", "Asia/Singapore"},
	{netip.MustParsePrefix("198.51.100.0/25"), 28, "el-GR", "Europe/Athens"},
	{netip.MustParsePrefix("198.51.100.128/26"), 12, "el-GR", "Europe/Athens"},
	{netip.MustParsePrefix("203.0.113.192/26"), 46, "de-CH,fr;q=0.7", "Europe/Zurich"},
	{netip.MustParsePrefix("203.0.113.128/26"), 14, "fr-CH,de;q=0.7", "Europe/Zurich"},
	{netip.MustParsePrefix("2001:db8:5e1:40::/64"), 36, "nb-NO", "Europe/Oslo"},
	{netip.MustParsePrefix("2001:db8:5e1:80::/64"), 14, "nb-NO", "Europe/Oslo"},
	{netip.MustParsePrefix("2001:db8:77:2::/64"), 20, "en-IN,hi;q=0.8", "Asia/Kolkata"},
	{netip.MustParsePrefix("2001:db8:78::/48"), 8, "en-IN", "Asia/Kolkata"},
	{netip.MustParsePrefix("2001:db8:90::/48"), 10, "pt-PT", "Europe/Lisbon"},
	{netip.MustParsePrefix("2001:db8:a0::/48"), 7, "ja-JP", "Asia/Tokyo"},
	{netip.MustParsePrefix("2001:db8:b0::/44"), 9, "cs-CZ", "Europe/Prague"},
	{netip.MustParsePrefix("2001:db8:c0::/48"), 6, "tr-TR", "Europe/Istanbul"},
	{netip.MustParsePrefix("2001:db8:d0::/48"), 5, "et-EE", "Europe/Tallinn"},
	{netip.MustParsePrefix("3fff:1a0:7::/64"), 12, "en", "Europe/London"}, // stays skipped
	{netip.MustParsePrefix("192.0.2.128/25"), 6, "en", "Europe/London"},   // no source knows it
	{netip.MustParsePrefix("10.0.3.0/28"), 12, "", "UTC"},                 // the regatta's own machines
	{netip.MustParsePrefix("127.0.0.1/32"), 6, "", "UTC"},
}

var (
	paths = weighted[string]{
		{"/", 24},
		{"/programme", 22},
		{"/tickets", 14},
		{"/start-times", 14},
		{"/boats/eights", 8},
		{"/boats/singles", 6},
		{"/map", 6},
		{"/volunteers", 4},
		{"/early/eights", 3},
		{"/programme/saturday/heats-and-repechages-of-the-lightweight-double-sculls", 1},
	}
	referrers = weighted[string]{
		{"", 60},
		{"https://heronlake.example/", 25},
		{"https://rowing-news.example/heron-lake", 9},
		{"https://search.example/?q=regatta", 6},
	}
	agents = weighted[string]{
		{"Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0", 30},
		{"Mozilla/5.0 (iPhone; CPU iPhone OS 19_0 like Mac OS X) AppleWebKit/605.1.15 Version/19.0 Mobile/15E148 Safari/604.1", 30},
		{"Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 Chrome/150.0.0.0 Safari/537.36", 30},
		{"RegattaWatch/1.2 (+https://heronlake.example/watch)", 6},
	}
)

// weighted is a choice among values, each with its weight.
type weighted[T any] []struct {
	value  T
	weight int
}

func (w weighted[T]) pick(r *rand.Rand) T {
	sum := 0
	for _, c := range w {
		sum += c.weight
	}
	n := r.IntN(sum)
	for _, c := range w {
		if n -= c.weight; n < 0 {
			return c.value
		}
	}
	return w[0].value
}

// Visits makes n visits of the 30 days before until, the oldest first. The same
// arguments give the same visits, ids included.
func Visits(seed uint64, n int, until time.Time) []api.NewVisit {
	r := rand.New(rand.NewPCG(seed, 0))
	var from weighted[network]
	for _, nw := range networks {
		from = append(from, struct {
			value  network
			weight int
		}{nw, nw.weight})
	}
	visits := make([]api.NewVisit, n)
	for i := range visits {
		nw := from.pick(r)
		at := moment(r, nw.zone, until.UTC().Truncate(time.Millisecond))
		id, _ := visit.NewID(at, reader{r}) // which never fails
		text := id.String()
		visits[i] = api.NewVisit{ID: &text, Site: Site, Path: paths.pick(r), Referrer: plain.Optional(referrers.pick(r))}
		visits[i].Peer, visits[i].Headers = request(r, nw, agents.pick(r))
	}
	slices.SortFunc(visits, func(a, b api.NewVisit) int { return cmp.Compare(*a.ID, *b.ID) })
	return visits
}

// moment picks a time: more often recently, and by day in the zone.
func moment(r *rand.Rand, zone string, until time.Time) time.Time {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		loc = time.UTC
	}
	for {
		back := time.Duration(r.Float64() * r.Float64() * days * 24 * float64(time.Hour))
		at := until.Add(-back).Truncate(time.Millisecond)
		hour := at.In(loc).Hour()
		awake := 0.15
		if hour >= 7 && hour < 23 {
			awake = 1
		}
		if r.Float64() < awake {
			return at
		}
	}
}

// request is what the regatta's web server saw: most came through the balancer
// 203.0.113.4 and the edge proxy 203.0.113.10.
func request(r *rand.Rand, nw network, agent string) (peer *string, headers api.Headers) {
	a := addressIn(r, nw.prefix)
	headers = api.Headers{"User-Agent": {agent}}
	if nw.language != "" {
		headers["Accept-Language"] = []string{nw.language}
	}
	own, balancer := a.String(), "203.0.113.4"
	peer = &balancer
	list := fmt.Sprintf("%s, 203.0.113.10", a)
	switch n := r.IntN(100); {
	case !a.IsGlobalUnicast() || a.IsPrivate(): // a health check, from inside
		return &own, headers
	case n < 4: // somebody writes addresses in front, one of them the office's
		list = "192.0.2.10, 198.51.100.7, " + list
	case n < 6:
		list = "127.0.0.1, " + list
	case n < 7: // a proxy of the visitor's hides its own peer
		list = "unknown, 203.0.113.10"
	case n < 12: // straight to the balancer
		list = own
	case n < 14: // past the proxies, with a forged header
		peer, list = &own, "198.18.3.1"
	case n < 18: // the two proxies wrote a line each
		headers["X-Forwarded-For"] = []string{own, "203.0.113.10"}
		return peer, headers
	}
	headers["X-Forwarded-For"] = []string{list}
	return peer, headers
}

func addressIn(r *rand.Rand, p netip.Prefix) netip.Addr {
	bytes := p.Addr().AsSlice()
	for bit := p.Bits(); bit < p.Addr().BitLen(); bit++ {
		if p.Addr().Is6() && bit >= 64 && bit < 112 {
			continue // short to read
		}
		bytes[bit/8] |= byte(r.IntN(2) << (7 - bit%8))
	}
	a, _ := netip.AddrFromSlice(bytes)
	return a
}

type reader struct{ r *rand.Rand }

func (s reader) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(s.r.Uint32())
	}
	return len(p), nil
}
