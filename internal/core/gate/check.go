package gate

import (
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/language"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// Bounds of rules.
const (
	MaxGates   = 50
	MaxRules   = 200  // of a gate
	MaxEntries = 1000 // of a rule, of one kind
	maxName    = 60   // bytes
	maxText    = 1000 // bytes
	maxPattern = 500  // bytes
)

// A Known says which names rules may use.
type Known struct {
	Groups almanac.Groups
	Areas  []geo.Area
	Labels func(string) bool // nil: any
}

// Severities of findings.
const (
	Error   = "error"
	Warning = "warning"
)

// Wrong gives the first error among findings; ok is false where there is none.
func Wrong(findings []Finding) (f Finding, ok bool) {
	i := slices.IndexFunc(findings, func(f Finding) bool { return f.Severity == Error })
	if i < 0 {
		return f, false
	}
	return findings[i], true
}

// checker gathers findings.
type checker struct {
	known     Known
	findings  []Finding
	refuseAll bool
	now       time.Time
}

func (c *checker) add(severity, field, hint, format string, args ...any) {
	c.findings = append(c.findings, Finding{Severity: severity, Field: field, Text: fmt.Sprintf(format, args...), Hint: hint})
}

func (c *checker) wrong(field, hint, format string, args ...any) {
	c.add(Error, field, hint, format, args...)
}

func (c *checker) warn(field, hint, format string, args ...any) {
	c.add(Warning, field, hint, format, args...)
}

// Check finds what is wrong with rules, and gives them in their one form: codes in capitals, also where a
// name was given. Rules with an error are not usable. An allow list that admits nobody is an error unless
// refuseAll confirms it. Warnings say which rules can never decide, which contradict each other, and
// whose time is over. Fields are named like gates.0.rules.2.countries.
func Check(rules Rules, known Known, refuseAll bool, now time.Time) (Rules, []Finding) {
	c := &checker{known: known, refuseAll: refuseAll, now: now, findings: []Finding{}}
	out := Rules{Exceptions: c.exceptions(rules.Exceptions), Gates: make([]Gate, 0, len(rules.Gates))}
	if len(rules.Gates) > MaxGates {
		c.wrong("gates", "Put rules of one path into one gate.", "there are %d gates, %d are allowed", len(rules.Gates), MaxGates)
		return out, c.findings
	}
	names := map[string]bool{}
	for i, g := range rules.Gates {
		at := fmt.Sprintf("gates.%d.", i)
		g.Name = strings.TrimSpace(g.Name)
		if names[g.Name] {
			c.wrong(at+"name", "Give it another name.", "two gates are called %q", g.Name)
		}
		names[g.Name] = true
		out.Gates = append(out.Gates, c.gate(at, g))
	}
	if _, bad := Wrong(c.findings); !bad {
		for i := range out.Gates {
			c.compare(fmt.Sprintf("gates.%d.", i), &out.Gates[i])
		}
	}
	return out, c.findings
}

func (c *checker) exceptions(e Exceptions) Exceptions {
	e.Labels = c.labels("exceptions.labels", e.Labels)
	for i, path := range e.Paths {
		at := fmt.Sprintf("exceptions.paths.%d", i)
		t := ReadTarget(path)
		switch {
		case !strings.HasPrefix(path, "/") || strings.ContainsAny(path, "?#"):
			c.wrong(at, "Give an exact path, such as /healthz.", "%.80q is not a path", path)
		case strings.Contains(path, "*"):
			c.wrong(at, "Give an exact path, such as /healthz; a gate of its own can stand at a pattern.", "an exception is one exact path, and %.80q has a *", path)
		case !t.Is(path):
			c.wrong(at, "Give it without dot segments, double slashes, semicolons and percent signs.", "%.80q can be read in several ways", path)
		}
	}
	return e
}

func (c *checker) gate(at string, g Gate) Gate {
	if err := plain.Check(g.Name, maxName); err != nil || g.Name == "" {
		c.wrong(at+"name", fmt.Sprintf("Give a name of at most %d bytes, such as Early entry.", maxName), "%.40q is not a name", g.Name)
	}
	g.Path = c.path(at+"path", g.Path)
	if !slices.Contains([]Mode{Off, Watch, On}, g.Mode) {
		c.wrong(at+"mode", "Give off, watch or on.", "%.20q is not a mode", string(g.Mode))
	}
	if g.List != Allow && g.List != Deny {
		c.wrong(at+"list", "Give allow or deny.", "%.20q is not a kind of list", string(g.List))
	}
	for i, word := range Absences {
		if o := g.Missing.of(absence(i + 1)); o != Admit && o != Refuse {
			c.wrong(at+"missing."+word, "Choose admit or refuse.", "what happens where %s must be chosen", absenceWords[i+1])
		}
	}
	if len(g.Rules) > MaxRules {
		c.wrong(at+"rules", "A rule may have many countries, networks and labels: put them together.", "there are %d rules, %d are allowed", len(g.Rules), MaxRules)
		return g
	}
	g.Rules = slices.Clone(g.Rules)
	admits := false
	for i := range g.Rules {
		g.Rules[i] = c.rule(fmt.Sprintf("%srules.%d.", at, i), g.Rules[i])
		if g.Rules[i].outcome(g.List) == Refuse {
			c.opens(fmt.Sprintf("%srules.%d.", at, i), &g.Rules[i])
		}
		admits = admits || g.Rules[i].outcome(g.List) == Admit
	}
	if g.List == Allow && !admits && !c.refuseAll {
		c.wrong(at+"rules", "Add whom it admits, or confirm it with refuse_everybody.", "this allow list admits nobody, so it would refuse everybody")
	}
	if g.Refusal != nil {
		c.refusal(at+"refusal.", g.Refusal)
	}
	return g
}

// opens warns of a rule that refuses by what is often not known: whoever lacks it passes.
func (c *checker) opens(at string, r *Rule) {
	for _, by := range []struct {
		field, fact string
		asks        bool
	}{
		{"regions", "region", len(r.Regions) > 0},
		{"areas", "point", len(r.Areas) > 0},
		{"networks", "AS number", slices.ContainsFunc(r.Networks, func(text string) bool { _, ok := asNumber(text); return ok })},
	} {
		if by.asks {
			c.warn(at+by.field, "Refuse by country, network prefix or label too, or admit on an allow list instead.", "it refuses by %s, so whoever has a country and no known %[1]s passes it", by.fact)
		}
	}
}

// path gives a pattern in its one form.
func (c *checker) path(at, text string) string {
	const hint = "Give a path such as /early/**, where * is one segment and ** at the end all below."
	if decoded, ok := unescape(text); ok {
		text = decoded
	}
	segments := strings.Split(strings.Trim(text, "/"), "/")
	switch {
	case !strings.HasPrefix(text, "/"):
		c.wrong(at, hint, "%.80q does not begin with /", text)
	case plain.Check(text, maxPattern) != nil || strings.ContainsAny(text, `?#\;%`):
		c.wrong(at, hint, "%.80q is not a path", text)
	case slices.Contains(segments, ".") || slices.Contains(segments, "..") || strings.Contains(text, "//"):
		c.wrong(at, hint, "%.80q has dot segments or double slashes, and requests are compared without", text)
	default:
		for i, segment := range segments {
			if strings.Contains(segment, "*") && segment != "*" && !(segment == "**" && i == len(segments)-1) {
				c.wrong(at, hint, "%.80q has a * inside a segment", text)
				break
			}
		}
	}
	return text
}

func (c *checker) rule(at string, r Rule) Rule {
	if r.Do != "" && r.Do != string(Admit) && r.Do != string(Refuse) {
		c.wrong(at+"do", "Give admit or refuse, or leave it out.", "%.20q is not an outcome", r.Do)
	}
	for _, list := range []struct {
		name string
		of   []string
	}{
		{"countries", r.Countries}, {"groups", r.Groups}, {"regions", r.Regions}, {"areas", r.Areas}, {"labels", r.Labels}, {"kinds", r.Kinds}, {"networks", r.Networks},
	} {
		if len(list.of) > MaxEntries {
			c.wrong(at+list.name, "Use a group, a label or a wider prefix.", "there are %d entries, %d are allowed", len(list.of), MaxEntries)
			return r
		}
	}
	r.Countries = c.each(at+"countries", r.Countries, almanac.ReadCode, "Give alpha-2 codes of ISO 3166-1, or names.")
	r.Regions = c.each(at+"regions", r.Regions, regionCode, "Give codes of ISO 3166-2, such as PT-11.")
	r.Groups = c.each(at+"groups", r.Groups, func(name string) (string, error) {
		if c.known.Groups.Known(name) {
			return name, nil
		}
		return name, fmt.Errorf("%.40q is not a group; known are %s", name, strings.Join(c.known.Groups.Names(), ", "))
	}, "Groups of your own stand in the configuration.")
	r.Labels = c.labels(at+"labels", r.Labels)
	r.Areas = c.each(at+"areas", r.Areas, c.area, "Areas stand in the file that the configuration names.")
	r.Kinds = c.each(at+"kinds", r.Kinds, func(word string) (string, error) {
		if _, ok := addr.ParseKind(word); ok {
			return word, nil
		}
		return word, fmt.Errorf("%.40q is not a kind of address", word)
	}, "Give one such as public, private or loopback: eastporch kind explains them.")
	r.Networks = c.each(at+"networks", r.Networks, network, "Give prefixes such as 198.18.3.0/24, or AS numbers such as AS64500.")
	c.schedule(at, &r)
	if r.Basis != "" && !slices.Contains(atlas.Bases, atlas.Basis(r.Basis)) {
		c.wrong(at+"basis", "Give "+atlas.BasesInWords()+".", "%.40q is not a basis", r.Basis)
	}
	for word, does := range r.Missing {
		if !slices.Contains(Absences, word) {
			c.wrong(at+"missing", "Give "+strings.Join(Absences, ", ")+".", "%.40q is none of its words", word)
		} else if does != string(Admit) && does != string(Refuse) && does != next {
			c.wrong(at+"missing."+word, "Give admit, refuse or next.", "%.40q is none of its words", does)
		}
	}
	return r
}

// each reads every entry of a list, and leaves repeated ones out.
func (c *checker) each(at string, list []string, read func(string) (string, error), hint string) []string {
	var out []string
	for i, text := range list {
		one, err := read(strings.TrimSpace(text))
		if err != nil {
			c.wrong(fmt.Sprintf("%s.%d", at, i), hint, "%v", err)
		}
		if !slices.Contains(out, one) {
			out = append(out, one)
		}
	}
	return out
}

func (c *checker) labels(at string, list []string) []string {
	return c.each(at, list, func(name string) (string, error) {
		if name != "" && (c.known.Labels == nil || c.known.Labels(name)) {
			return name, nil
		}
		return name, fmt.Errorf("%.40q is not a label of yours", name)
	}, "Labels stand in the configuration and in lists of labels.")
}

func (c *checker) area(name string) (string, error) {
	i := slices.IndexFunc(c.known.Areas, func(a geo.Area) bool { return a.Name == name })
	if i < 0 {
		return name, fmt.Errorf("%.40q is not an area of yours", name)
	}
	a := c.known.Areas[i]
	if at, crosses := a.Crossing(); crosses {
		return name, fmt.Errorf("the outline of the area %s crosses itself near %.3f, %.3f, so that what is inside is not clear", name, at.Latitude, at.Longitude)
	}
	return name, nil
}

func regionCode(text string) (string, error) {
	code := strings.ToUpper(text)
	country, _, _ := strings.Cut(code, "-")
	if err := almanac.CheckCode(country); err != nil {
		return text, fmt.Errorf("%.20q is not a region: %w", text, err)
	}
	current, err := almanac.CurrentRegion(code)
	if err != nil {
		return text, err
	}
	return current, nil
}

func network(text string) (string, error) {
	if n, ok := asNumber(text); ok {
		return fmt.Sprintf("AS%d", n), nil
	}
	p, err := addr.ParsePrefix(text)
	if err != nil {
		return text, err
	}
	if p.Bits() == 0 {
		return text, fmt.Errorf("%s is everybody", p)
	}
	return p.Masked().String(), nil
}

// wallClock is how times of a schedule are written.
const wallClock = "2006-01-02T15:04"

// moment reads a time on the clock of a zone; of one that comes twice, when clocks go back, it gives the
// first. The zero Time stands for "". The error is worded to follow the time.
func moment(text, zone string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	where, err := time.LoadLocation(zone)
	if err != nil || zone == "" || zone == "Local" {
		return time.Time{}, fmt.Errorf("has no time zone: %.40q is none", zone)
	}
	t, err := time.ParseInLocation(wallClock, text, where)
	if err != nil {
		return t, fmt.Errorf("is not a time such as %s", wallClock)
	}
	if t.Format(wallClock) != text {
		return t, fmt.Errorf("does not exist in %s, where clocks go forward then", zone)
	}
	for _, back := range []time.Duration{time.Hour, 30 * time.Minute} { // by which clocks go back
		if before := t.Add(-back); before.Format(wallClock) == text {
			return before, nil
		}
	}
	return t, nil
}

func (c *checker) schedule(at string, r *Rule) {
	if r.From == "" && r.Until == "" {
		if r.TimeZone != "" {
			c.wrong(at+"time_zone", "Give from or until, or leave it out.", "it stands alone")
		}
		return
	}
	from, err := moment(r.From, r.TimeZone)
	if err != nil {
		c.wrong(at+"from", "Give from, and the IANA zone that it is of.", "%.40q %v", r.From, err)
		return
	}
	until, err := moment(r.Until, r.TimeZone)
	switch {
	case err != nil:
		c.wrong(at+"until", "Give until, and the IANA zone that it is of.", "%.40q %v", r.Until, err)
	case !until.IsZero() && !from.IsZero() && !from.Before(until):
		c.wrong(at+"until", "Give a later time.", "it is not after from, so the rule never holds")
	case !until.IsZero() && until.Before(c.now):
		c.warn(at+"until", "Remove the rule, or give it another time.", "it ended on %s", until.UTC().Format(time.RFC3339))
	}
}

func (c *checker) refusal(at string, r *Refusal) {
	if r.Status != 0 && r.Status != 403 && r.Status != 404 && r.Status != 451 {
		c.wrong(at+"status", "Give 403, 404 or 451.", "%d is not a status of a refusal", r.Status)
	}
	if r.Contact != "" {
		address, err := mail.ParseAddress(r.Contact)
		u, wrong := url.Parse(r.Contact)
		if (err != nil || address.Address != r.Contact) && (wrong != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "") || len(r.Contact) > 200 {
			c.wrong(at+"contact", "Give an e-mail address or an address that begins with https://.", "%.60q is neither an e-mail address nor a URL", r.Contact)
		}
	}
	if r.Elsewhere != "" && (!strings.HasPrefix(r.Elsewhere, "/") || strings.HasPrefix(r.Elsewhere, "//") || plain.Check(r.Elsewhere, maxPattern) != nil || strings.ContainsAny(r.Elsewhere, `\"<>`)) {
		c.wrong(at+"elsewhere", "Give a path such as /programme.", "%.60q is not a path of the site", r.Elsewhere)
	}
	for tag, text := range r.Texts {
		if parsed, err := language.Parse(tag); err != nil || parsed == language.Und {
			c.wrong(at+"texts", "Give languages such as pt-PT.", "%.40q is not a language tag", tag)
		}
		if err := plain.Check(text, maxText); err != nil {
			c.wrong(at+"texts."+tag, "Write plain text.", "%v", err)
		}
	}
}
