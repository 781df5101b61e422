package rehearsal

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"eastporch/internal/core/card"
	"eastporch/internal/core/plain"
)

// Expectations are made-up visits and what is expected of each, as a file has them.
type Expectations struct {
	Site   string        `yaml:"site,omitempty" json:"site,omitempty"`
	Expect []Expectation `yaml:"expect" json:"expect"`
}

// An Expectation is one made-up visit, and what is expected of it: what is "" may be anything.
type Expectation struct {
	From      string `yaml:"from" json:"from"`
	Path      string `yaml:"path" json:"path"`
	Languages string `yaml:"accept_language,omitempty" json:"accept_language,omitempty"`
	Choice    string `yaml:"choice,omitempty" json:"choice,omitempty"`
	At        string `yaml:"at,omitempty" json:"at,omitempty"` // RFC 3339

	Gate         string            `yaml:"gate,omitempty" json:"gate,omitempty"` // admit or refuse
	Rule         string            `yaml:"rule,omitempty" json:"rule,omitempty"` // such as "Early entry 3"
	Status       int               `yaml:"status,omitempty" json:"status,omitempty"`
	CountryCode  string            `yaml:"country_code,omitempty" json:"country_code,omitempty"`
	RegionCode   string            `yaml:"region_code,omitempty" json:"region_code,omitempty"`
	City         string            `yaml:"city,omitempty" json:"city,omitempty"`
	TimeZone     string            `yaml:"time_zone,omitempty" json:"time_zone,omitempty"`
	CurrencyCode string            `yaml:"currency_code,omitempty" json:"currency_code,omitempty"`
	Language     string            `yaml:"language,omitempty" json:"language,omitempty"` // de is met by de-CH too
	Variants     map[string]string `yaml:"variants,omitempty" json:"variants,omitempty"`
}

// ErrExpectations is wrapped where a file of expectations cannot be read.
var ErrExpectations = errors.New("these are no expectations")

// MaxExpectations bounds a file of them.
const MaxExpectations = 1000

// ReadExpectations reads YAML or JSON. The error wraps [ErrExpectations] and names the line or the entry.
func ReadExpectations(text []byte) (Expectations, error) {
	var e Expectations
	decoder := yaml.NewDecoder(strings.NewReader(string(text)))
	decoder.KnownFields(true)
	if err := decoder.Decode(&e); err != nil {
		return e, fmt.Errorf("%w: %w", ErrExpectations, err)
	}
	if len(e.Expect) == 0 || len(e.Expect) > MaxExpectations {
		return e, fmt.Errorf("%w: %d are given under expect, 1 to %d are allowed", ErrExpectations, len(e.Expect), MaxExpectations)
	}
	for i := range e.Expect {
		if err := e.Expect[i].check(); err != nil {
			return e, fmt.Errorf("%w: expect.%d: %w", ErrExpectations, i, err)
		}
	}
	return e, nil
}

func (e *Expectation) check() error {
	if _, err := ParsePlace(e.From); err != nil {
		return fmt.Errorf("from: %w", err)
	}
	if !strings.HasPrefix(e.Path, "/") {
		return fmt.Errorf("path: %.60q does not begin with /", e.Path)
	}
	if e.Gate != "" && e.Gate != "admit" && e.Gate != "refuse" {
		return fmt.Errorf("gate: %.20q is neither admit nor refuse", e.Gate)
	}
	if e.At != "" {
		if _, err := time.Parse(time.RFC3339, e.At); err != nil {
			return fmt.Errorf("at: %.40q is not a time such as 2026-11-14T06:00:00Z", e.At)
		}
	}
	if e.Gate == "" && e.Rule == "" && e.Status == 0 && e.CountryCode == "" && e.RegionCode == "" && e.City == "" && e.TimeZone == "" && e.CurrencyCode == "" && e.Language == "" && len(e.Variants) == 0 {
		return errors.New("nothing is expected: give gate, country_code, language or the like")
	}
	return nil
}

// Unmet says what of an expectation a card, and the status of the page (0 where it was not asked), do not meet,
// each as "language: de was expected, and it is en".
func (e *Expectation) Unmet(c *card.Card, status int) (unmet []string) {
	is := func(what, want, got string) {
		if want != "" && want != got {
			if got == "" {
				got = "none"
			}
			unmet = append(unmet, fmt.Sprintf("%s: %s was expected, and it is %s", what, want, got))
		}
	}
	outcome, rule := "admit", ""
	if c.Gate != nil {
		outcome = string(c.Gate.Outcome)
		if c.Gate.Gate != nil {
			if rule = *c.Gate.Gate; c.Gate.Rule != nil {
				rule += " " + strconv.Itoa(*c.Gate.Rule)
			}
		}
	}
	is("gate", e.Gate, outcome)
	is("rule", e.Rule, rule)
	if e.Status != 0 {
		is("status", strconv.Itoa(e.Status), strconv.Itoa(status))
	}
	is("country_code", e.CountryCode, plain.Value(c.Location.CountryCode))
	is("region_code", e.RegionCode, plain.Value(c.Location.RegionCode))
	is("city", e.City, plain.Value(c.Location.City))
	is("time_zone", e.TimeZone, plain.Value(c.Clock.TimeZone))
	is("currency_code", e.CurrencyCode, plain.Value(c.Money.CurrencyCode))
	if l := c.Locale.Language; l != e.Language && !strings.HasPrefix(l, e.Language+"-") {
		is("language", e.Language, l)
	}
	names := []string{}
	for name := range e.Variants {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		is("variants."+name, e.Variants[name], c.Variants[name])
	}
	return unmet
}

// Expect makes the expectation that a card meets, of a visit that was made up like e.
func (e Expectation) Expect(c *card.Card, status int) Expectation {
	e.Gate, e.CountryCode, e.CurrencyCode, e.Language, e.TimeZone = "admit", plain.Value(c.Location.CountryCode), plain.Value(c.Money.CurrencyCode), c.Locale.Language, plain.Value(c.Clock.TimeZone)
	if c.Gate != nil {
		e.Gate = string(c.Gate.Outcome)
	}
	e.Status = status
	if len(c.Variants) > 0 {
		e.Variants = c.Variants
	}
	return e
}
