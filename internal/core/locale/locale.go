// Package locale says which language, money and clock suit a visitor, writes amounts
// and times by the habits of a language (CLDR), and converts amounts.
//
// Everything here is safe for concurrent use.
package locale

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/text/language"

	"eastporch/internal/core/almanac"
)

// Bounds of how much of an Accept-Language field is read.
const (
	maxHeader = 1024 // bytes
	maxAsked  = 32   // languages
)

// The reasons for a language, from the strongest.
const (
	ByChoice  = "choice"          // the visitor chose it before
	ByHeader  = "accept-language" // the visitor's program asks for it
	ByCountry = "country"         // it is official where the visitor is
	ByDefault = "default"         // the site's own
)

// Languages are those that a site offers, with what suited visitors before. The zero
// value is not usable; see [NewLanguages].
type Languages struct {
	tags     []language.Tag
	written  []string // as the owner wrote them
	fallback string
	matcher  *Matcher // nil where every language is offered

	known *lru.Cache[ask, *Locale]
}

// ask is everything that decides a language.
type ask struct{ choice, header, country string }

// maxKnown bounds how many answers are remembered.
const maxKnown = 4096

// NewLanguages makes the languages of a site: those it offers, none for all, and the
// one where no other suits, "" for the first or English. The error names the tag that
// is none of BCP 47, or a fallback that is not offered.
func NewLanguages(offered []string, fallback string) (*Languages, error) {
	known, _ := lru.New[ask, *Locale](maxKnown) // which fails for no size above 0
	l := &Languages{written: offered, fallback: fallback, known: known}
	for _, text := range offered {
		tag, err := Read(text)
		if err != nil || tag == language.Und {
			return nil, fmt.Errorf("%.40q is not a language tag, such as pt-PT", text)
		}
		l.tags = append(l.tags, tag)
	}
	switch {
	case fallback == "" && len(offered) > 0:
		l.fallback = offered[0]
	case fallback == "":
		l.fallback = "en"
	case len(offered) > 0 && !slices.Contains(offered, fallback):
		return nil, fmt.Errorf("%.40q is not one of the languages that are offered", fallback)
	}
	if _, err := language.Parse(l.fallback); err != nil {
		return nil, fmt.Errorf("%.40q is not a language tag, such as pt-PT", fallback)
	}
	if len(l.tags) > 0 {
		l.matcher = NewMatcher(l.tags)
	}
	return l, nil
}

// Offered lists the languages as the owner wrote them; none where all are offered.
func (l *Languages) Offered() []string { return l.written }

// Default is the language where no other suits.
func (l *Languages) Default() string { return l.fallback }

// Negotiate chooses a language: the visitor's stored choice wins, then the first of
// Accept-Language (RFC 9110, section 12.5.4) by weight, then the most spoken official
// one of the country, then the default; each only where the site offers it, or one that
// is as good as the same (RFC 4647, lookup by CLDR's distances). What cannot be read
// counts as absent and is said in the hints; country may be nil.
func (l *Languages) Negotiate(choice, acceptLanguage string, country *almanac.Country) *Locale {
	var hints []string
	if len(acceptLanguage) > maxHeader {
		hints = append(hints, fmt.Sprintf("Accept-Language has %d bytes; more than %d are not read, so it counts as absent.", len(acceptLanguage), maxHeader))
		acceptLanguage = ""
	}
	if len(choice) > 35 { // the longest that RFC 5646, section 4.4.1 recommends to support
		hints, choice = append(hints, "The stored choice is not a language tag."), ""
	}
	key := ask{choice, acceptLanguage, ""}
	if country != nil {
		key.country = country.Code
	}
	if len(hints) > 0 { // which are this request's own
		return l.negotiate(choice, acceptLanguage, country, hints)
	}
	if found, ok := l.known.Get(key); ok {
		return found
	}
	found := l.negotiate(choice, acceptLanguage, country, nil)
	l.known.Add(key, found)
	return found
}

func (l *Languages) negotiate(choice, header string, country *almanac.Country, hints []string) *Locale {
	found := &Locale{Offered: []string{}, Hints: append([]string{}, hints...)}
	if choice != "" {
		if tag, err := Read(choice); err != nil || tag == language.Und {
			found.Hints = append(found.Hints, fmt.Sprintf("The stored choice %.35q is not a language tag.", choice))
		} else if !l.offer(found, tag, ByChoice) {
			found.Hints = append(found.Hints, fmt.Sprintf("The visitor chose %s, which is not offered.", tag))
		}
	}
	asked, unread := readHeader(header)
	if unread > 0 {
		found.Hints = append(found.Hints, fmt.Sprintf("Of Accept-Language %d parts could not be read.", unread))
	}
	for _, tag := range asked {
		l.offer(found, tag, ByHeader)
	}
	if country != nil {
		for _, text := range country.Languages {
			l.offer(found, language.Make(text+"-"+country.Code), ByCountry)
		}
		if hint := traveller(asked, country); hint != "" {
			found.Hints = append(found.Hints, hint)
		}
	}
	add(found, l.fallback, l.fallback, ByDefault)
	for _, text := range l.written {
		add(found, text, text, ByDefault)
	}
	l.describe(found, country)
	return found
}

// offer adds a language, or the one that the site has in its place; ok is false where
// it has none.
func (l *Languages) offer(found *Locale, tag language.Tag, reason string) (ok bool) {
	if l.matcher == nil {
		add(found, tag.String(), tag.String(), reason)
		return true
	}
	i, ok := l.matcher.Best(tag)
	if !ok {
		return false
	}
	add(found, l.written[i], tag.String(), reason)
	return true
}

// A Matcher finds which of some languages suits a reader, everywhere by the same rule: the
// language itself or what it is a kind of (RFC 4647, section 3.4), else the nearest by
// CLDR's distances, and no neighbour's language for one's own (see [Alike]). It is safe for
// concurrent use.
type Matcher struct {
	tags    []language.Tag
	matcher language.Matcher
}

// NewMatcher makes a matcher of languages; one that is [language.Und] suits nobody.
func NewMatcher(tags []language.Tag) *Matcher { return &Matcher{tags, language.NewMatcher(tags)} }

// Best gives the place of the language that suits the first of the wanted ones that any
// suits; ok is false where none does.
func (m *Matcher) Best(wanted ...language.Tag) (i int, ok bool) {
	for _, tag := range wanted {
		if tag == language.Und {
			continue
		}
		for text := tag.String(); text != ""; text = text[:max(0, strings.LastIndexByte(text, '-'))] {
			for i := range m.tags {
				if m.tags[i].String() == text && Alike(tag, m.tags[i]) {
					return i, true
				}
			}
		}
		if _, i, sure := m.matcher.Match(tag); sure >= language.High && Alike(tag, m.tags[i]) {
			return i, true
		}
	}
	return 0, false
}

// Alike says whether speakers of two languages read each other's: one language, or nearly so, in one
// script. Chinese in simplified and in traditional characters are two.
func Alike(a, b language.Tag) bool {
	script, _ := a.Script()
	other, _ := b.Script()
	return family(a) == family(b) && script == other
}

// family names the language of a tag; those that their speakers read alike share one.
func family(tag language.Tag) string {
	base, _ := tag.Base()
	switch name := base.String(); name {
	case "nb", "nn":
		return "no"
	case "gsw":
		return "de"
	case "cmn":
		return "zh"
	default:
		return name
	}
}

// add offers a language once; the first decides, and formatting goes by what was
// asked for.
func add(found *Locale, tag, asked, reason string) {
	if slices.Contains(found.Offered, tag) {
		return
	}
	if found.Language == "" {
		found.Language, found.Formatting, found.Reason = tag, asked, reason
	}
	found.Offered = append(found.Offered, tag)
}

// describe fills in what follows from the language.
func (l *Languages) describe(found *Locale, country *almanac.Country) {
	found.Script, found.Direction = ScriptOf(found.Language), DirectionOf(found.Language)
	// A bare language is written as where the visitor is, if it is spoken there.
	if _, _, region := language.Make(found.Formatting).Raw(); region.String() == "ZZ" && country != nil {
		for _, s := range country.Spoken {
			if s.Language == found.Formatting && s.Status != "" {
				found.Formatting += "-" + country.Code
				break
			}
		}
	}
	found.Names.Language = almanac.OwnName(found.Language)
	if country != nil {
		name := almanac.NameIn(country.Code, found.Language)
		found.Names.Country = &name
	}
}

// ScriptOf gives the script that a language is likely written in (ISO 15924).
func ScriptOf(tag string) string {
	script, _ := language.Make(tag).Script()
	return script.String()
}

// DirectionOf says which way a language is written: ltr or rtl.
func DirectionOf(tag string) string {
	if rightToLeft[ScriptOf(tag)] {
		return "rtl"
	}
	return "ltr"
}

// Read reads a tag of BCP 47. Mandarin (cmn) is what is written as Chinese everywhere, and read as that.
func Read(text string) (language.Tag, error) {
	if rest, is := strings.CutPrefix(strings.ToLower(text), "cmn"); is && (rest == "" || rest[0] == '-' || rest[0] == '_') {
		text = "zh" + text[len("cmn"):]
	}
	return language.Parse(text)
}

// Asked reads Accept-Language (RFC 9110, section 12.5.4), the most wanted language first. Of
// what it cannot read nothing is asked; a header longer than 1 KB counts as absent.
func Asked(header string) []language.Tag {
	if len(header) > maxHeader {
		return nil
	}
	asked, _ := readHeader(header)
	return asked
}

// readHeader reads Accept-Language, the most wanted first, and counts what it cannot
// read. A weight of 0 and the wildcard ask for nothing.
func readHeader(field string) (asked []language.Tag, unread int) {
	type one struct {
		tag    language.Tag
		weight float64
	}
	var all []one
	for part := range strings.SplitSeq(field, ",") {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		if len(all) == maxAsked {
			break
		}
		text, parameter, weighed := strings.Cut(part, ";")
		weight := 1.0
		if weighed {
			name, value, _ := strings.Cut(parameter, "=")
			q, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
			if strings.ToLower(strings.TrimSpace(name)) != "q" || err != nil || !(q >= 0 && q <= 1) {
				unread++
				continue
			}
			weight = q
		}
		text = strings.TrimSpace(text)
		if text == "*" || weight == 0 {
			continue
		}
		tag, err := Read(text)
		if err != nil || tag == language.Und || text == "mul" {
			unread++
			continue
		}
		all = append(all, one{tag, weight})
	}
	slices.SortStableFunc(all, func(a, b one) int {
		switch {
		case a.weight > b.weight:
			return -1
		case a.weight < b.weight:
			return 1
		}
		return 0
	})
	for _, o := range all {
		asked = append(asked, o.tag)
	}
	return asked, unread
}

// traveller hints at a language that few people speak where the visitor is.
func traveller(asked []language.Tag, country *almanac.Country) string {
	if len(asked) == 0 || len(country.Spoken) == 0 {
		return ""
	}
	first, _ := asked[0].Base()
	for _, s := range country.Spoken {
		if base, _ := language.Make(s.Language).Base(); base == first {
			return ""
		}
	}
	return fmt.Sprintf("The visitor's program asks for %s, which few people speak in %s: a traveller, or an address that is elsewhere?",
		almanac.LanguageName(first.String()), country.Name)
}

// rightToLeft are the scripts that are written from right to left.
var rightToLeft = map[string]bool{
	"Adlm": true, "Arab": true, "Hebr": true, "Mand": true, "Nkoo": true, "Rohg": true, "Samr": true, "Syrc": true, "Thaa": true,
}
