package notice

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// Facts are what a message may say, as text without line breaks, by the names of [All]; those of companions are
// like weather.category. A fact that is not known is not there, and Missing may say why.
type Facts struct {
	Values  map[string]string `json:"values"`
	Missing map[string]string `json:"missing"`
}

// NewFacts makes facts that say nothing yet.
func NewFacts() Facts { return Facts{map[string]string{}, map[string]string{}} }

// longestFact bounds what one fact says, in bytes.
const longestFact = 2048

// Set says a fact; what is empty is missing for a reason.
func (f Facts) Set(name, value, reason string) {
	if value = strings.TrimSpace(plain.Clean(value, longestFact)); value != "" {
		f.Values[name] = value
		return
	}
	f.Missing[name] = cmp.Or(reason, "it is not known")
}

// Why says why a fact is missing.
func (f Facts) Why(name string) string { return cmp.Or(f.Missing[name], "it is not known") }

var (
	everyKind   = Kinds
	placeKinds  = []Kind{OnAsk, OnCountry, OnLabel}
	visitKinds  = []Kind{OnCountry, OnLabel}
	askedAlone  = []Kind{OnAsk}
	labelAlone  = []Kind{OnLabel}
	gateAlone   = []Kind{OnRefusals}
	checkAlone  = []Kind{OnCheckup}
	editionOnly = []Kind{OnEdition}
)

// All are the facts that layouts may have, beside those of companions.
var All = func() []Fact {
	list := slices.Clone(own)
	for _, f := range atlas.Facts {
		if f.Meaning != "" {
			list = append(list, Fact{f.Name, f.Meaning, f.Example, placeKinds})
		}
	}
	return list
}()

// own are the facts that are of no atlas, or that an atlas has in another form.
var own = []Fact{
	{"site", "The host of the site.", "heronlake.example", everyKind},
	{"date", "The day, by the clock of the site.", "2026-11-28", everyKind},
	{"time", "The time, by the clock of the site.", "07:40", everyKind},
	{"country", "The country's name, in the language of the site.", "Kenya", placeKinds},
	{"continent", "The continent's name.", "Africa", placeKinds},
	{"region", "The region's name.", "Nairobi City", placeKinds},
	{"radius", "How far around the coordinates the visitor may be.", "35 km", placeKinds},
	{"level", "How well the place is known: city, region, country, continent or none.", "city", placeKinds},
	{"utc_offset", "Of the clock there.", "+03:00", placeKinds},
	{"local_date", "The day there.", "2026-11-28", placeKinds},
	{"local_time", "The clock there.", "09:40", placeKinds},
	{"currency_code", "ISO 4217.", "KES", placeKinds},
	{"network", "The AS number and operator.", "AS64507 Savanna", placeKinds},
	{"labels", "The owner's labels of the address.", "office", placeKinds},
	{"address", "The address, as far as the site keeps it; whole where somebody asks for it.", "198.18.40.0", placeKinds},
	{"kind", "What the address is good for.", "public", placeKinds},
	{"path", "The page.", "/programme", visitKinds},
	{"referrer", "The host of another site that led there.", "news.example", visitKinds},
	{"link", "The code of the link that led there.", "tickets", visitKinds},
	{"browser", "The family of the browser.", "Firefox", visitKinds},
	{"language", "The language of the page (BCP 47).", "en", visitKinds},
	{"visit_url", "Where the visit stands in the console.", "https://porch.heronlake.example/visits?visit=0198", visitKinds},
	{"label", "The label that arrived.", "office", labelAlone},
	{"asker", "The mail address of whoever asked.", "ida@crew.example", askedAlone},
	{"question", "The address that was asked about, in its one form.", "198.18.40.7", askedAlone},
	{"refusals", "Refusals of the last hour.", "96", gateAlone},
	{"refusals_before", "Those of the hour before.", "12", gateAlone},
	{"times", "How many times as many that is.", "8", gateAlone},
	{"finding", "What the checkup found, in a sentence.", "A proxy is not trusted.", checkAlone},
	{"finding_text", "What it means.", "Requests come from 10.0.0.7 with a header.", checkAlone},
	{"edition", "The edition that waits.", "2026-11-28-5f3a", editionOnly},
	{"edition_in_use", "The one that is in use.", "2026-11-01-77c1", editionOnly},
}

// lacking are those of own that are missing of many visits.
var lacking = []string{"region", "radius", "network", "labels", "referrer", "link", "times", "asker"}

// MayLack says whether a fact is missing of many visits.
func MayLack(name string) bool {
	return slices.Contains(lacking, name) || strings.Contains(name, ".") ||
		slices.ContainsFunc(atlas.Facts[:], func(f atlas.Fact) bool { return f.Name == name && f.MayLack })
}

// recipientFacts may stand before the @ of a recipient: they have few values, which no visitor makes up.
var recipientFacts = []string{"country_code", "region_code", "continent", "level", "kind", "label", "site"}

// Known is what notices of a site may name.
type Known struct {
	Channels   map[string]string // the kinds of channels, by name
	Labels     func(string) bool
	Categories []string            // of companions, such as weather.storm
	Companions map[string][]string // the names of their values
}

// Facts are those that a notice of a kind may have.
func (k *Known) Facts(kind Kind) map[string]Fact {
	out := map[string]Fact{}
	for _, f := range k.AllFacts() {
		if slices.Contains(f.Kinds, kind) {
			out[f.Name] = f
		}
	}
	return out
}

// AllFacts are those of all kinds, and of the site's companions.
func (k *Known) AllFacts() []Fact {
	list := slices.Clone(All)
	for _, name := range slices.Sorted(maps.Keys(k.Companions)) {
		list = append(list, Fact{name + ".category", "The category of the companion " + name + ".", "calm", placeKinds})
		for _, value := range k.Companions[name] {
			list = append(list, Fact{name + "." + value, "What the companion " + name + " says.", "12", placeKinds})
		}
	}
	return list
}

// Examples are made-up facts of a kind.
func (k *Known) Examples(kind Kind) Facts {
	f := NewFacts()
	for name, fact := range k.Facts(kind) {
		f.Values[name] = fact.Example
	}
	return f
}

// An Aspect is how a site writes facts.
type Aspect struct {
	Site       string
	Language   string // BCP 47
	Zone       *time.Location
	ConsoleURL string // without a slash at its end; "" for none
}

// When says the date and time of something.
func (a *Aspect) When(at time.Time, into Facts) {
	at = at.In(a.Zone)
	into.Set("site", a.Site, "")
	into.Set("date", at.Format(time.DateOnly), "")
	into.Set("time", at.Format("15:04"), "")
}

// OfVisit gives the facts of a stored visit, which are no more than the site keeps.
func (a *Aspect) OfVisit(v *visit.Visit) Facts {
	f := a.OfCard(&v.Card, v.Time)
	f.Set("path", v.Path, "")
	f.Set("referrer", visit.ReferrerHost(v.Referrer, v.Site), "no other site led there")
	f.Set("link", plain.Value(v.Link), "no link led there")
	f.Set("browser", visit.AgentFamily(v.UserAgent), "the browser did not say")
	f.Set("language", v.Card.Locale.Language, "")
	if a.ConsoleURL != "" {
		f.Set("visit_url", a.ConsoleURL+"/visits?visit="+v.ID.String(), "")
	}
	return f
}

// OfCard gives the facts of a card that was made at a time.
func (a *Aspect) OfCard(c *card.Card, at time.Time) Facts {
	f := NewFacts()
	a.When(at, f)
	w, n := &c.Location, &c.Network
	names := w.NamesIn(a.Language)
	for i := range atlas.Facts {
		if fact := &atlas.Facts[i]; fact.Meaning != "" {
			f.Set(fact.Name, fact.Text(w, n), fact.Reason(w, n))
		}
	}
	for _, one := range []struct{ name, value, reason string }{
		{"country", plain.Value(names.Country), w.Missing["country_code"]},
		{"continent", plain.Value(names.Continent), w.Missing["continent_code"]},
		{"region", plain.Value(names.Region), w.Missing["region_code"]},
		{"city", cmp.Or(plain.Value(names.City), plain.Value(w.City)), w.Missing["city"]},
		{"level", string(w.Level), ""},
		{"utc_offset", plain.Value(c.Clock.UTCOffset), w.Missing["time_zone"]},
		{"currency_code", plain.Value(c.Money.CurrencyCode), "the country is not known"},
		{"labels", strings.Join(c.Labels, ", "), "the address has no label"},
		{"address", addressOf(c), "the site does not keep it"},
	} {
		f.Set(one.name, one.value, one.reason)
	}
	if w.RadiusKm != nil {
		f.Set("radius", locale.FormatNumber(decimal.NewFromFloat(*w.RadiusKm), 0, a.Language)+" km", "")
	} else {
		f.Set("radius", "", w.Missing["radius_km"])
	}
	if zone, err := time.LoadLocation(plain.Value(w.TimeZone)); w.TimeZone != nil && err == nil {
		f.Set("local_date", at.In(zone).Format(time.DateOnly), "")
		f.Set("local_time", at.In(zone).Format("15:04"), "")
	} else {
		f.Set("local_date", "", w.Missing["time_zone"])
		f.Set("local_time", "", w.Missing["time_zone"])
	}
	network := plain.Value(n.Operator)
	if n.ASNumber != nil {
		network = strings.TrimSpace(fmt.Sprintf("AS%d %s", *n.ASNumber, network))
	}
	f.Set("network", network, n.Missing["as_number"])
	if c.Address.Kind != nil {
		f.Set("kind", c.Address.Kind.String(), "")
	}
	for i := range c.Companions {
		said := &c.Companions[i]
		f.Set(said.Name+".category", plain.Value(said.Category), said.Missing["category"])
		for name, text := range said.Human {
			f.Set(said.Name+"."+name, text, "")
		}
		for name, reason := range said.Missing {
			if _, known := f.Values[said.Name+"."+name]; !known {
				f.Set(said.Name+"."+name, "", reason)
			}
		}
	}
	return f
}

func addressOf(c *card.Card) string {
	if !c.Address.Text.IsValid() {
		return ""
	}
	return c.Address.Text.String()
}

// Place is where a card is, in words.
func Place(c *card.Card, language string) string {
	names := c.Location.NamesIn(language)
	for _, name := range []*string{names.City, c.Location.City, names.Region, names.Country, names.Continent} {
		if name != nil {
			return *name
		}
	}
	return "none"
}

// Jump are the facts of refusals that jump.
func (a *Aspect) Jump(now, before int64, at time.Time) Facts {
	f := NewFacts()
	a.When(at, f)
	f.Set("refusals", locale.FormatNumber(decimal.NewFromInt(now), 0, a.Language), "")
	f.Set("refusals_before", locale.FormatNumber(decimal.NewFromInt(before), 0, a.Language), "")
	if before > 0 {
		f.Set("times", fmt.Sprintf("%.3g", float64(now)/float64(before)), "")
	} else {
		f.Set("times", "", "there were none in the hour before")
	}
	return f
}
