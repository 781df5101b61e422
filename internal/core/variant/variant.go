// Package variant chooses between named variants of a site's content (a picture set, an
// offer, a catalogue) by rules about the visitor.
package variant

import (
	"errors"
	"fmt"
	"regexp"
	"slices"

	"golang.org/x/text/language"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/locale"
)

// A When is what must be so of a visitor. Of one kind any will do; each kind that is
// named must be met. The zero When is met by everybody.
type When struct {
	Countries []string `json:"countries,omitempty"` // ISO 3166-1 alpha-2
	Groups    []string `json:"groups,omitempty"`    // of countries
	Languages []string `json:"languages,omitempty"` // BCP 47; pt holds pt-BR too
	Labels    []string `json:"labels,omitempty"`    // of addresses
	Areas     []string `json:"areas,omitempty"`     // the owner's polygons
	// Categories are those of companions that are active, such as weather.storm.
	Categories []string `json:"categories,omitempty"`
	// Basis is the least that the country must rest on, such as table's claim; "" is anything.
	Basis string `json:"basis,omitempty"`
}

// A Rule gives its variant to visitors who meet its When.
type Rule struct {
	Variant string `json:"variant"`
	When    When   `json:"when"`
}

// A Set is the variants of one thing. The first rule that is met decides; the default
// stands where none is.
type Set struct {
	Name    string `json:"name"`
	Default string `json:"default"`
	Rules   []Rule `json:"rules"`
}

// Bounds of a set.
const (
	MaxRules = 100
	MaxSets  = 20
)

// Errors of changing variants.
var (
	ErrConfigured = errors.New("the configuration has the variants")
	ErrNoSet      = errors.New("there are no variants with this name")
)

// ErrSet is wrapped by what is wrong with a set.
var ErrSet = errors.New("the variants are not usable")

// word is what names and variants are written with, so that they can stand in a header
// (RFC 9651, token) and in a class name.
var word = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,39}$`)

// category is how a category of a companion is written.
var category = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}\.[a-z][a-z0-9_]{0,39}$`)

// A Known says which names rules may use.
type Known struct {
	Groups almanac.Groups
	Labels func(string) bool // nil: any
	Areas  func(string) bool
	// Categories are those of companions; nil: any.
	Categories []string
}

// Check says what is wrong with a set: a name, a code, a group or an area that does
// not exist. field tells where, such as rules.2.when.countries.
func (s Set) Check(k Known) (field string, err error) {
	bad := func(field, format string, args ...any) (string, error) {
		return field, fmt.Errorf("%w: "+format, append([]any{ErrSet}, args...)...)
	}
	if !word.MatchString(s.Name) {
		return bad("name", "%.40q is not a name: write small letters, digits, - and _", s.Name)
	}
	if !word.MatchString(s.Default) {
		return bad("default", "%.40q is not a variant: write small letters, digits, - and _", s.Default)
	}
	if len(s.Rules) > MaxRules {
		return bad("rules", "there are %d rules, %d are allowed", len(s.Rules), MaxRules)
	}
	for i, r := range s.Rules {
		at := fmt.Sprintf("rules.%d.", i)
		if !word.MatchString(r.Variant) {
			return bad(at+"variant", "%.40q is not a variant: write small letters, digits, - and _", r.Variant)
		}
		for _, code := range r.When.Countries {
			if err := almanac.CheckCode(code); err != nil {
				return bad(at+"when.countries", "%w", err)
			}
		}
		for _, g := range r.When.Groups {
			if !k.Groups.Known(g) {
				return bad(at+"when.groups", "%.40q is not a group; known are %v", g, k.Groups.Names())
			}
		}
		for _, text := range r.When.Languages {
			if tag, err := language.Parse(text); err != nil || tag == language.Und {
				return bad(at+"when.languages", "%.40q is not a language tag, such as pt-PT", text)
			}
		}
		for _, a := range r.When.Areas {
			if k.Areas != nil && !k.Areas(a) {
				return bad(at+"when.areas", "%.40q is not an area of yours", a)
			}
		}
		for _, c := range r.When.Categories {
			if !category.MatchString(c) {
				return bad(at+"when.categories", "%.80q is not a category of a companion, such as weather.storm", c)
			}
			if k.Categories != nil && !slices.Contains(k.Categories, c) {
				return bad(at+"when.categories", "%.80q is no category of yours; there are %v", c, k.Categories)
			}
		}
		if b := atlas.Basis(r.When.Basis); b != "" && !slices.Contains(atlas.Bases, b) {
			return bad(at+"when.basis", "%.40q is not a basis; known are %s", b, atlas.BasesInWords())
		}
		for _, l := range r.When.Labels {
			if k.Labels != nil && !k.Labels(l) {
				return bad(at+"when.labels", "%.40q is not a label of yours", l)
			}
		}
	}
	return "", nil
}

// A Subject is the visitor that variants are chosen for.
type Subject struct {
	Country  *almanac.Country // nil where it is not known
	Language string           // BCP 47, "" for none
	Labels   []string
	Point    *geo.Point  // nil where there is none
	Basis    atlas.Basis // of the country
	// Companions say which categories are active.
	Companions companion.Answers
}

// A Chooser chooses variants. It is immutable and safe for concurrent use; the zero
// Chooser has none.
type Chooser struct {
	sets   []Set
	groups almanac.Groups
	areas  map[string][]geo.Area
	asks   bool // a rule names a category
}

// New makes a chooser of sets that were checked.
func New(sets []Set, groups almanac.Groups, areas []geo.Area) *Chooser {
	c := &Chooser{sets: sets, groups: groups, areas: map[string][]geo.Area{}}
	for _, a := range areas {
		c.areas[a.Name] = append(c.areas[a.Name], a)
	}
	for _, set := range sets {
		c.asks = c.asks || slices.ContainsFunc(set.Rules, func(r Rule) bool { return len(r.When.Categories) > 0 })
	}
	return c
}

// Asks says whether a variant depends on what companions say.
func (c *Chooser) Asks() bool { return c != nil && c.asks }

// Values gives the variants that each set may give, by the set's name.
func (c *Chooser) Values() map[string][]string {
	values := map[string][]string{}
	if c == nil {
		return values
	}
	for _, set := range c.sets {
		values[set.Name] = append(values[set.Name], set.Default)
		for _, r := range set.Rules {
			values[set.Name] = append(values[set.Name], r.Variant)
		}
	}
	return values
}

// Choices are the variants of a visitor by the name of their set.
type Choices map[string]string

var none = Choices{}

// Choose gives the variant of every set. A nil Chooser has none.
func (c *Chooser) Choose(s Subject) Choices {
	if c == nil || len(c.sets) == 0 {
		return none
	}
	chosen := make(Choices, len(c.sets))
	for _, set := range c.sets {
		chosen[set.Name] = set.Default
		for i := range set.Rules {
			if c.met(&set.Rules[i].When, s) {
				chosen[set.Name] = set.Rules[i].Variant
				break
			}
		}
	}
	return chosen
}

func (c *Chooser) met(w *When, s Subject) bool {
	return (len(w.Countries) == 0 || s.Country != nil && slices.Contains(w.Countries, s.Country.Code)) &&
		(len(w.Groups) == 0 || slices.ContainsFunc(w.Groups, func(g string) bool { return c.groups.Has(g, s.Country) })) &&
		(len(w.Languages) == 0 || slices.ContainsFunc(w.Languages, func(l string) bool { return holds(l, s.Language) })) &&
		(len(w.Labels) == 0 || slices.ContainsFunc(w.Labels, func(l string) bool { return slices.Contains(s.Labels, l) })) &&
		(w.Basis == "" || s.Basis.AsGoodAs(atlas.Basis(w.Basis))) &&
		(len(w.Categories) == 0 || slices.ContainsFunc(w.Categories, s.Companions.Has)) &&
		(len(w.Areas) == 0 || s.Point != nil && slices.ContainsFunc(w.Areas, func(a string) bool { return c.inside(a, *s.Point) }))
}

// holds says whether whoever reads a language reads that of a rule: as everywhere (see [locale.Alike]), and where the
// rule names a region it is that one.
func holds(rule, tag string) bool {
	if rule == tag {
		return true
	}
	a, b := language.Make(rule), language.Make(tag)
	if tag == "" || b == language.Und || !locale.Alike(a, b) {
		return false
	}
	_, _, wants := a.Raw()
	_, _, has := b.Raw()
	return wants.String() == "ZZ" || wants == has
}

func (c *Chooser) inside(area string, p geo.Point) bool {
	for _, a := range c.areas[area] {
		if a.Contains(p) {
			return true
		}
	}
	return false
}
