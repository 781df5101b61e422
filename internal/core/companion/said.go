package companion

import (
	"fmt"
	"math"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/secret"
)

// The words of the contract.
const (
	get, post                 = "GET", "POST"
	inQuery, inHeader, inBody = "query", "header", "body"
	number, text, boolean     = "number", "text", "boolean"
)

// Bounds of what is said.
const (
	MaxCompanions = 20 // of a site
	maxParameters = 30
	maxPicks      = 30
	maxCategories = 50
	maxDay        = 10_000_000
	maxMinute     = 100_000
)

// MostAsked is how many places the reserve of an allowance is for.
const MostAsked = 10

// word is what companions, values and categories are called, so that they can stand in a class and in a
// path of a card.
var (
	word      = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)
	fieldName = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,64}$") // RFC 9110, token
)

// notOurs are fields of a header that a companion may not set.
var notOurs = []string{"host", "cookie", "content-length", "transfer-encoding", "connection", "user-agent", "referer", "forwarded", "via", "te", "trailer", "upgrade", "expect", "accept-encoding", "content-type", "origin", "proxy-authorization"}

// CheckName says what is wrong with a companion's name.
func CheckName(name string) error {
	if !word.MatchString(name) {
		return invalid.Field("name", fmt.Sprintf("%.40q is not a name", name), "Write up to 40 small letters, digits and _, a letter first, such as weather.")
	}
	return nil
}

// Check says what is wrong with what is said of a companion, the first thing only, and gives it cleaned.
func Check(s Said) (Said, error) {
	s.Title, s.Note, s.URL, s.Credit, s.CreditURL = strings.TrimSpace(s.Title), strings.TrimSpace(s.Note), strings.TrimSpace(s.URL), strings.TrimSpace(s.Credit), strings.TrimSpace(s.CreditURL)
	s.Parameters, s.Values, s.Categories = append([]Parameter{}, s.Parameters...), append([]Pick{}, s.Values...), append([]Category{}, s.Categories...)
	for _, one := range []struct {
		field, text string
		most        int
	}{{"title", s.Title, 60}, {"note", s.Note, 200}, {"url", s.URL, 500}, {"credit", s.Credit, 200}, {"credit_url", s.CreditURL, 500}} {
		if err := plain.Check(one.text, one.most*4); err != nil || len([]rune(one.text)) > one.most {
			if err == nil {
				err = fmt.Errorf("it has more than %d characters", one.most)
			}
			return s, invalid.Field(one.field, err.Error(), "Shorten it, on one line.")
		}
	}
	for _, check := range []func(*Said) error{checkRequest, checkParameters, checkPicks, checkCategories, checkNumbers} {
		if err := check(&s); err != nil {
			return s, err
		}
	}
	return s, nil
}

func checkRequest(s *Said) error {
	if s.Title == "" {
		return invalid.Field("title", "it is missing", "Give a few words for lists, such as Weather.")
	}
	if s.Method != get && s.Method != post {
		return invalid.Word("method", s.Method, []string{get, post})
	}
	names := placeholders(s.URL)
	for _, name := range names {
		if !slices.Contains(FactNames, name) {
			return invalid.Field("url", fmt.Sprintf("{%.40s} is none of the facts", name), "Known are {"+strings.Join(FactNames, "}, {")+"}.")
		}
	}
	host, rest, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(s.URL, "https://"), "http://"), "/")
	path, query, _ := strings.Cut(rest, "?")
	if strings.Contains(host, "{") || strings.Contains(query, "{") {
		return invalid.Field("url", "facts stand in its path only", "Make parameters of the others.")
	}
	filled := s.URL
	for _, name := range names {
		filled = strings.ReplaceAll(filled, "{"+name+"}", "0")
	}
	u, err := url.Parse(filled)
	switch {
	case err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" || strings.ContainsAny(filled, " {}\\"):
		return invalid.Field("url", fmt.Sprintf("%.80q is not an address of HTTP", s.URL), "Write it like https://sky.example/v1/now.")
	case u.User != nil:
		return invalid.Field("url", "there is a user or a password in it", "Put the secret into a file, and make a parameter of it.")
	case u.Fragment != "" || strings.Contains(filled, "#"):
		return invalid.Field("url", "what stands behind # is never sent", "Leave it out.")
	case strings.Contains("/"+path+"/", "/../"):
		return invalid.Field("url", "there is .. in its path", "Write the path that is meant.")
	}
	if s.CreditURL != "" {
		if to, err := url.Parse(s.CreditURL); err != nil || to.Scheme != "https" && to.Scheme != "http" || to.Hostname() == "" {
			return invalid.Field("credit_url", fmt.Sprintf("%.80q is not an address of HTTP", s.CreditURL), "Write it like https://sky.example/about, or leave it out.")
		}
	}
	return nil
}

func checkParameters(s *Said) error {
	if len(s.Parameters) > maxParameters {
		return invalid.Field("parameters", fmt.Sprintf("there are %d", len(s.Parameters)), fmt.Sprintf("Give at most %d.", maxParameters))
	}
	seen := map[string]bool{}
	for i, p := range s.Parameters {
		at := fmt.Sprintf("parameters.%d.", i)
		switch p.In {
		case inQuery, inHeader:
		case inBody:
			if s.Method != post {
				return invalid.Field(at+"in", "a GET request has no body", "Give query or header, or ask by POST.")
			}
		default:
			return invalid.Word(at+"in", p.In, []string{inQuery, inHeader, inBody})
		}
		name := p.Name
		if p.In == inHeader {
			name = strings.ToLower(name)
			if !fieldName.MatchString(p.Name) || slices.Contains(notOurs, name) || strings.HasPrefix(name, "x-forwarded") || name == "x-real-ip" {
				return invalid.Field(at+"name", fmt.Sprintf("%.40q cannot be a field of the header here", p.Name), "Give one that the service asks for, such as Authorization or X-Api-Key.")
			}
		} else if p.Name == "" || plain.Check(p.Name, 64) != nil {
			return invalid.Field(at+"name", fmt.Sprintf("%.40q is not a name", p.Name), "Give one to 64 characters.")
		}
		if key := p.In + " " + name; seen[key] {
			return invalid.Field(at+"name", fmt.Sprintf("%q is there twice", p.Name), "Give each once.")
		} else {
			seen[key] = true
		}
		if given := len(slices.DeleteFunc([]string{p.Fact, p.Fixed, p.Secret}, func(v string) bool { return v == "" })); given > 1 {
			return invalid.Field(at+"fixed", "it has more than one of fact, fixed and secret", "Give one of them.")
		}
		if p.Fact != "" && !slices.Contains(FactNames, p.Fact) {
			return invalid.Field(at+"fact", fmt.Sprintf("%.40q is none of the facts", p.Fact), "Known are "+strings.Join(FactNames, ", ")+"; the address is not among them.")
		}
		if err := plain.Check(p.Fixed, 200); err != nil {
			return invalid.Field(at+"fixed", err.Error(), "Shorten it, on one line.")
		}
		if _, err := netip.ParseAddr(strings.Trim(p.Fixed, "[] ")); err == nil {
			return invalid.Field(at+"fixed", "it is an address of the Internet", "Companions are asked with coarse facts, never with an address.")
		}
		if p.Secret != "" {
			if _, _, ok := secret.Name(p.Secret); !ok {
				return invalid.Field(at+"secret", fmt.Sprintf("%.60q names no secret", p.Secret), "Write file:NAME for a file in the directory of secrets, without a path, or env:"+secret.VariablePrefix+"NAME.")
			}
		}
	}
	return nil
}

func checkPicks(s *Said) error {
	if len(s.Values) > maxPicks {
		return invalid.Field("values", fmt.Sprintf("there are %d", len(s.Values)), fmt.Sprintf("Pick at most %d.", maxPicks))
	}
	seen := map[string]bool{}
	for i := range s.Values {
		p, at := &s.Values[i], fmt.Sprintf("values.%d.", i)
		if !word.MatchString(p.Name) || p.Name == "and" || p.Name == "or" || p.Name == "category" || p.Name == "answer" {
			return invalid.Field(at+"name", fmt.Sprintf("%.40q is not a name for a value", p.Name), "Write small letters, digits and _, a letter first, such as wind; not and, or, category or answer.")
		}
		if seen[p.Name] {
			return invalid.Field(at+"name", fmt.Sprintf("%q is there twice", p.Name), "Give each value its own name.")
		}
		seen[p.Name] = true
		if _, err := readPointer(p.Pointer); err != nil || len(p.Pointer) > 500 {
			return invalid.Field(at+"pointer", fmt.Sprintf("%.60q is not a JSON Pointer", p.Pointer), "Write it like /now/wind (RFC 6901).")
		}
		if !slices.Contains([]string{number, text, boolean}, p.Type) {
			return invalid.Word(at+"type", p.Type, []string{number, text, boolean})
		}
		if p.Unit = strings.TrimSpace(p.Unit); plain.Check(p.Unit, 20) != nil {
			return invalid.Field(at+"unit", fmt.Sprintf("%.30q is too long for a unit", p.Unit), "Write it short, such as m/s.")
		}
	}
	return nil
}

func checkCategories(s *Said) error {
	if len(s.Categories) > maxCategories {
		return invalid.Field("categories", fmt.Sprintf("there are %d", len(s.Categories)), fmt.Sprintf("Give at most %d.", maxCategories))
	}
	for i, c := range s.Categories {
		at := fmt.Sprintf("categories.%d.", i)
		if !word.MatchString(c.Name) {
			return invalid.Field(at+"name", fmt.Sprintf("%.40q is not a name for a category", c.Name), "Write small letters, digits and _, a letter first, such as storm.")
		}
		if len(c.When) > 500 {
			return invalid.Field(at+"when", "it is too long", "Give at most 500 characters; several categories may have the same name.")
		}
		if _, err := readCondition(c.When, s.Values); err != nil {
			return invalid.Field(at+"when", err.Error(), "Write it like wind >= 17 or rain >= 10.")
		}
	}
	if s.Default != "" && !word.MatchString(s.Default) {
		return invalid.Field("default", fmt.Sprintf("%.40q is not a name for a category", s.Default), "Write small letters, digits and _, or leave it empty.")
	}
	return nil
}

func checkNumbers(s *Said) error {
	if !slices.Contains(Grids, s.Grid) || math.IsNaN(s.Grid) {
		return invalid.Field("grid", fmt.Sprintf("%v degrees are no grid here", s.Grid), "Give 0.05, 0.1, 0.25, 0.5, 1, 2 or 5.")
	}
	if !slices.Contains(Levels, s.Level) {
		return invalid.Word("level", s.Level, Levels)
	}
	for _, one := range []struct {
		field       string
		n, from, to int
	}{
		{"timeout_ms", s.TimeoutMs, 100, 30_000},
		{"a_day", s.ADay, 0, maxDay},
		{"a_minute", s.AMinute, 0, maxMinute},
		{"reserve", s.Reserve, 0, s.ADay},
		{"keep_seconds", s.KeepSeconds, 60, 7 * 86_400},
		{"oldest_seconds", s.OldestSeconds, s.KeepSeconds, 30 * 86_400},
	} {
		if one.n < one.from || one.n > one.to {
			return invalid.Field(one.field, fmt.Sprintf("%d is out of bounds", one.n), fmt.Sprintf("Give %d to %d.", one.from, one.to))
		}
	}
	return nil
}

// A Compiled is what is said of a companion, ready to be asked. It is immutable and safe for concurrent
// use.
type Compiled struct {
	Said
	Name       string
	uses       used
	pointers   []pointer
	conditions []condition
}

// Compile compiles what [Check] found nothing wrong with.
func Compile(name string, s Said) *Compiled {
	c := &Compiled{Said: s, Name: name, uses: s.uses()}
	for _, p := range s.Values {
		to, _ := readPointer(p.Pointer)
		c.pointers = append(c.pointers, to)
	}
	for _, one := range s.Categories {
		when, _ := readCondition(one.When, s.Values)
		c.conditions = append(c.conditions, when)
	}
	return c
}

// SecretNames are the secrets that the parameters name.
func (c *Compiled) SecretNames() (names []string) {
	for _, p := range c.Parameters {
		if p.Secret != "" && !slices.Contains(names, p.Secret) {
			names = append(names, p.Secret)
		}
	}
	return names
}

// CategoryNames are the categories that may be active.
func (s *Said) CategoryNames() (names []string) {
	for _, c := range s.Categories {
		if !slices.Contains(names, c.Name) {
			names = append(names, c.Name)
		}
	}
	if s.Default != "" && !slices.Contains(names, s.Default) {
		names = append(names, s.Default)
	}
	return names
}

// Asks says whether two companions put the same questions to the same service, so that the answers of one
// serve the other.
func (s *Said) Asks(o *Said) bool {
	return s.Method == o.Method && s.URL == o.URL && s.Grid == o.Grid && slices.Equal(s.Parameters, o.Parameters)
}
