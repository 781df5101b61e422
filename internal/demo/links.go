package demo

import (
	"cmp"
	"context"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/client"
	"eastporch/internal/core/link"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// links are those of the regatta's programme.
var links = []client.NewLink{
	{Code: "programme", Site: Site, Said: link.Said{Name: "Printed programme", Destination: "/programme", Routes: []link.Route{
		{Languages: []string{"pt-PT"}, Destination: "/programme?choice=pt-PT"},
		{Languages: []string{"ja"}, Destination: "/programme?choice=ja"},
		{Languages: []string{"fr"}, Destination: "/programme?choice=fr"},
		{Languages: []string{"nb"}, Destination: "/programme?choice=nb"},
	}}},
	{Code: "tickets", Site: Site, Said: link.Said{Name: "Posters in the towns", Note: "Forty posters, from Bergen to Athens", Destination: "/tickets", HandOn: []string{"seat"}, Routes: []link.Route{
		{Countries: []string{"PT", "BR"}, Destination: "/tickets?choice=pt-PT"},
		{Countries: []string{"JP"}, Destination: "/tickets?choice=ja"},
		{Languages: []string{"fr"}, Destination: "/tickets?choice=fr"},
	}}},
	{Code: "early", Site: Site, Said: link.Said{Name: "Early entry, club letter", Destination: "/early/eights"}},
}

// clickDays is how far back the demo's clicks reach.
const clickDays = 7

var (
	followed      = weighted[int]{{0, 10}, {1, 7}, {2, 2}} // of links
	clickAgents   = append(slices.Clone(agents), weighted[string]{{"LinkPreview/2.1", 5}, {"HeronCrawler/0.4 (+https://crawler.example)", 3}}...)
	clickReferrer = weighted[string]{{"", 70}, {"https://rowing-news.example/heron-lake", 15}, {"https://mail.example/", 15}}
)

// Clicks makes n clicks on the regatta's links, of the week before until, the oldest first. The same
// arguments give the same clicks, ids included.
func Clicks(seed uint64, n int, until time.Time) []api.NewVisit {
	r := rand.New(rand.NewPCG(seed, 2))
	clicks := make([]api.NewVisit, n)
	var from weighted[network]
	for _, nw := range networks {
		from = append(from, struct {
			value  network
			weight int
		}{nw, nw.weight})
	}
	for i := range clicks {
		nw := from.pick(r)
		at := moment(r, nw.zone, until.UTC().Truncate(time.Millisecond))
		for until.Sub(at) > clickDays*24*time.Hour {
			at = moment(r, nw.zone, until.UTC().Truncate(time.Millisecond))
		}
		id, _ := visit.NewID(at, reader{r}) // which never fails
		text, to := id.String(), links[followed.pick(r)]
		agent := clickAgents.pick(r)
		destination := destinationOf(to, nw.language)
		clicks[i] = api.NewVisit{ID: &text, Site: Site, Path: link.Path(to.Code), Link: &to.Code, Destination: &destination, Referrer: plain.Optional(clickReferrer.pick(r))}
		clicks[i].Peer, clicks[i].Headers = request(r, nw, agent)
	}
	slices.SortFunc(clicks, func(a, b api.NewVisit) int { return cmp.Compare(*a.ID, *b.ID) })
	return clicks
}

// destinationOf is where a link leads whoever reads a language, as the service chooses it.
func destinationOf(l client.NewLink, language string) string {
	country := ""
	for code, tag := range map[string]string{"PT": "pt-PT", "BR": "pt-BR", "JP": "ja-JP"} {
		if strings.HasPrefix(language, tag) {
			country = code
		}
	}
	to, _ := link.Compile(link.Link{Said: l.Said}, nil, "en").Choose(link.Visitor{CountryCode: country, Accept: language}, "", "")
	return to
}

// mistyped are codes that visitors ask for and that nobody made.
var mistyped = weighted[string]{{"ticket", 14}, {"programm", 6}}

// Follow follows the regatta's links from a few places, as visitors, previews and the club's own machines
// do, and asks for links that there are not.
func Follow(ctx context.Context, visitors string, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 3))
	for range 12 {
		follow(ctx, visitors, Clicks(r.Uint64(), 1, time.Now())[0])
	}
	for range 8 {
		code := mistyped.pick(r)
		follow(ctx, visitors, api.NewVisit{Path: link.Path(code)})
	}
}

// follow asks the public listener as a visitor's browser does through the regatta's proxies.
func follow(ctx context.Context, visitors string, as api.NewVisit) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, visitors+as.Path, nil)
	if err != nil {
		return
	}
	req.Host = Site
	for name, lines := range as.Headers {
		req.Header[name] = lines
	}
	if as.Peer != nil {
		req.Header.Set("X-Forwarded-For", strings.Join(append(slices.Clone(as.Headers["X-Forwarded-For"]), *as.Peer), ", "))
	}
	if as.Referrer != nil {
		req.Header.Set("Referer", *as.Referrer)
	}
	if res, err := http.DefaultTransport.RoundTrip(req); err == nil {
		_ = res.Body.Close()
	}
}
