package demo

import (
	"bytes"
	"context"
	"embed"
	"fmt"
	"html/template"
	"io/fs"
	"math"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/shopspring/decimal"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/report"
)

//go:embed site
var siteFiles embed.FS

// A Page is the regatta's own web page: an application that stands behind a reverse
// proxy and reads what East Porch hands over in header fields.
type Page struct {
	words     map[string]map[string]string // by language, then key
	languages []string
	template  *template.Template
	report    func(context.Context) (report.Report, error)

	mu         sync.Mutex
	supporters []report.Row
	asked      time.Time
}

// NewPage makes the page; report gives the visits by country.
func NewPage(report func(context.Context) (report.Report, error)) (*Page, error) {
	p := &Page{words: map[string]map[string]string{}, report: report}
	text, err := siteFiles.ReadFile("site/words.tsv")
	if err != nil {
		return nil, err
	}
	for i, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		fields := strings.Split(line, "\t")
		if i == 0 {
			p.languages = fields[1:]
			for _, tag := range p.languages {
				p.words[tag] = map[string]string{}
			}
			continue
		}
		for n, tag := range p.languages {
			p.words[tag][fields[0]] = fields[n+1]
		}
	}
	p.template, err = template.ParseFS(siteFiles, "site/page.html")
	return p, err
}

// sitePolicy is as strict as can be, and porch.js works under it.
const sitePolicy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// ServeHTTP serves the page in the language that was handed over, or that the path names,
// and its files.
func (p *Page) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Security-Policy", sitePolicy)
	w.Header().Set("X-Content-Type-Options", "nosniff")
	name := strings.Trim(r.URL.Path, "/")
	switch from, isFrom := strings.CutPrefix(name, "from/"); {
	case isFrom:
		http.SetCookie(w, &http.Cookie{Name: seenFromCookie, Value: url.PathEscape(from), Path: "/", SameSite: http.SameSiteLaxMode})
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case name == "", name == "early", strings.HasPrefix(name, "early/"):
		tag := r.Header.Get("Porch-Language")
		if p.words[tag] == nil {
			tag = p.languages[0]
		}
		w.Header().Set("Cache-Control", "private, no-store") // it differs from visitor to visitor
		p.write(w, r, tag)
	case p.words[name] != nil:
		w.Header().Set("Cache-Control", "private, no-store")
		p.write(w, r, name)
	case fs.ValidPath(name) && !strings.HasSuffix(name, ".html") && !strings.HasSuffix(name, ".tsv"):
		http.ServeFileFS(w, r, siteFiles, "site/"+name)
	default:
		http.NotFound(w, r)
	}
}

// The regatta's races and fees.
var (
	starts = []string{"2027-06-12T08:00:00Z", "2027-06-12T12:30:00Z", "2027-06-13T09:15:00Z"}
	fees   = []string{"85", "240", "420"}
)

// home is where the regatta takes place.
const home = "Europe/Oslo"

type start struct{ Name, At, Local string }

type fee struct{ Name, Euros, Text string }

type supporter struct {
	Name    string
	Visits  int64
	X, Y, R float64
}

// skies are the categories of the companion weather.
var skies = []string{"storm", "snow", "rain", "bright", "grey"}

type sky struct{ Name, Word string }

type languageLink struct {
	Tag, Name string
	Current   bool
}

func (p *Page) write(w http.ResponseWriter, r *http.Request, tag string) {
	words := p.words[tag]
	zone := r.Header.Get("Porch-Time-Zone")
	if _, err := locale.LoadZone(zone); err != nil {
		zone = home
	}
	written := tag
	if code := r.Header.Get("Porch-Country-Code"); code != "" && !strings.Contains(tag, "-") {
		written += "-" + code
	}
	variants := map[string]string{}
	for pair := range strings.SplitSeq(r.Header.Get("Porch-Variant"), ",") {
		set, variant, _ := strings.Cut(strings.TrimSpace(pair), "=")
		variants[set] = variant
	}
	page := struct {
		Language, Direction, Zone, Pictures, Offer string
		T                                          map[string]string
		Others, From                               []string
		Starts                                     []start
		Fees                                       []fee
		Supporters                                 []supporter
		Languages                                  []languageLink
		Skies                                      []sky
	}{
		Language: tag, Direction: "ltr", Zone: zone, T: words, Pictures: variants["pictures"], Offer: words[variants["offer"]],
		From: []string{"Portugal", "Japan", "Brazil", "Canada", "Norway", "here"}, Supporters: p.where(r.Context(), tag),
	}
	if page.Pictures == "" {
		page.Pictures = "lake"
	}
	if page.Offer == "" {
		page.Offer = words["open-entry"]
	}
	for _, name := range skies {
		page.Skies = append(page.Skies, sky{name, words[name]})
	}
	for i, at := range starts {
		moment, _ := time.Parse(time.RFC3339, at)
		local, _ := locale.InstantAt(moment, zone, written)
		page.Starts = append(page.Starts, start{words[fmt.Sprintf("race%d", i+1)], at, local.Text})
	}
	for i, euros := range fees {
		value := decimal.RequireFromString(euros)
		page.Fees = append(page.Fees, fee{words[fmt.Sprintf("fee%d", i+1)], euros, locale.FormatAmount(value, "EUR", written, locale.Ending{})})
	}
	for _, other := range p.languages {
		page.Languages = append(page.Languages, languageLink{other, almanac.OwnName(other), other == tag})
		if other != tag {
			page.Others = append(page.Others, other)
		}
	}
	var out bytes.Buffer
	if err := p.template.Execute(&out, page); err != nil {
		http.Error(w, "the page cannot be written", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Language", tag)
	_, _ = w.Write(out.Bytes())
}

// supportersLast is how long the counts of supporters are shown before they are asked
// for again.
const supportersLast = 30 * time.Second

// where gives the supporters by country as circles at the capitals.
func (p *Page) where(ctx context.Context, tag string) (list []supporter) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if time.Since(p.asked) > supportersLast {
		if report, err := p.report(ctx); err == nil {
			p.supporters = report.Rows
		}
		p.asked = time.Now()
	}
	for _, row := range p.supporters {
		c, ok := almanac.ByCode(row.Key)
		if !ok || c.Capital == "" {
			continue
		}
		list = append(list, supporter{
			Name: almanac.NameIn(c.Code, tag), Visits: row.Visits, R: math.Round(10*(2.5+math.Sqrt(float64(row.Visits)))) / 10,
			X: math.Round(20*(c.Longitude+180)) / 10, Y: math.Round(20*(90-c.Latitude)) / 10,
		})
	}
	return list
}
