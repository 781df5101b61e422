package companion

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"eastporch/internal/core/jsonout"
	"eastporch/internal/core/plain"
)

// An Answer is what a companion says for a visitor, in a card. What is null is not known, and Missing says
// why.
type Answer struct {
	Values       map[string]any    `json:"values"`
	Category     *string           `json:"category"`
	Human        map[string]string `json:"human"`
	Credit       *string           `json:"credit"`
	CreditURL    *string           `json:"credit_url"`
	Missing      map[string]string `json:"missing"`
	Age          *int              `json:"age"`
	Pending      bool              `json:"pending"`
	RefreshAfter *int              `json:"refresh_after"`

	// failed says that Missing tells what went wrong with the service, which is for its owner.
	failed bool
	// ready is the beginning as JSON, up to the age; nil where it is not made yet.
	ready []byte
	// at is what Age and RefreshAfter point into.
	at Moment
}

// Answers are those of a site's companions, in the order of their names. In JSON they are an object.
type Answers []Named

// A Named is the answer of a companion.
type Named struct {
	Name string
	Answer
}

// Get gives the answer of a companion, nil for none.
func (a Answers) Get(name string) *Answer {
	for i := range a {
		if a[i].Name == name {
			return &a[i].Answer
		}
	}
	return nil
}

// MarshalJSON writes them as an object.
func (a Answers) MarshalJSON() ([]byte, error) { return a.AppendJSON(nil), nil }

// UnmarshalJSON reads an object.
func (a *Answers) UnmarshalJSON(text []byte) error {
	var by map[string]*Answer
	if err := json.Unmarshal(text, &by); err != nil {
		return err
	}
	*a = nil
	for _, name := range slices.Sorted(maps.Keys(by)) {
		if by[name] != nil {
			*a = append(*a, Named{name, *by[name]})
		}
	}
	return nil
}

// AppendJSON appends it as JSON, byte for byte as encoding/json writes it.
func (a *Answer) AppendJSON(b []byte) []byte {
	if a.ready != nil {
		b = append(b, a.ready...)
	} else {
		b = a.begin(b)
	}
	b = append(b, `,"age":`...)
	b = jsonout.Int(b, a.Age)
	b = append(b, `,"pending":`...)
	b = jsonout.Bool(b, &a.Pending)
	b = append(b, `,"refresh_after":`...)
	b = jsonout.Int(b, a.RefreshAfter)
	return append(b, '}')
}

// begin appends what stays the same while an answer is kept.
func (a *Answer) begin(b []byte) []byte {
	b = append(b, `{"values":`...)
	b = jsonout.Any(b, a.Values)
	b = append(b, `,"category":`...)
	b = jsonout.Optional(b, a.Category)
	b = append(b, `,"human":`...)
	b = jsonout.Map(b, a.Human)
	b = append(b, `,"credit":`...)
	b = jsonout.Optional(b, a.Credit)
	b = append(b, `,"credit_url":`...)
	b = jsonout.Optional(b, a.CreditURL)
	b = append(b, `,"missing":`...)
	return jsonout.Map(b, a.Missing)
}

// AppendJSON appends them as an object of JSON.
func (a Answers) AppendJSON(b []byte) []byte {
	b = append(b, '{')
	for i := range a {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(jsonout.String(b, a[i].Name), ':')
		b = a[i].Answer.AppendJSON(b)
	}
	return append(b, '}')
}

// Pending says whether a service is being asked.
func (a Answers) Pending() bool {
	for i := range a {
		if a[i].Pending {
			return true
		}
	}
	return false
}

// Wait waits until no service is asked any more, or a time is over.
func (a Answers) Wait(most time.Duration, over <-chan struct{}) {
	timer := time.NewTimer(most)
	defer timer.Stop()
	for i := range a {
		if a[i].at.Done == nil {
			continue
		}
		select {
		case <-a[i].at.Done:
		case <-timer.C:
			return
		case <-over:
			return
		}
	}
}

// noAnswer is what visitors read in the place of what went wrong.
const noAnswer = "the service gives no answer here now"

// Public gives the answers as visitors may read them: why something is missing tells nothing of how the services are
// asked, and what they said.
func (a Answers) Public() Answers {
	if !slices.ContainsFunc(a, func(n Named) bool { return n.failed && len(n.Missing) > 0 }) {
		return a
	}
	out := slices.Clone(a)
	for i := range out {
		one := &out[i].Answer
		a[i].Fill(one, a[i].at)
		if !one.failed || len(one.Missing) == 0 {
			continue
		}
		one.Missing, one.ready = map[string]string{}, nil
		for name := range a[i].Missing {
			one.Missing[name] = noAnswer
		}
	}
	return out
}

// Has says whether a category is active, written as name.category.
func (a Answers) Has(named string) bool {
	name, category, _ := strings.Cut(named, ".")
	of := a.Get(name)
	return of != nil && of.Category != nil && *of.Category == category
}

// A Moment is what of an answer changes while it is kept.
type Moment struct {
	Age     int             // seconds; -1 for none
	Refresh int             // seconds until asking again may bring something new; -1 for never
	Done    <-chan struct{} // of the question that is asked now, nil for none
}

// Fill writes an answer at a moment into another, which must stay where it is.
func (a *Answer) Fill(into *Answer, m Moment) {
	*into = *a
	if into.at = m; m.Age >= 0 {
		into.Age = &into.at.Age
	}
	if m.Refresh >= 0 {
		into.RefreshAfter = &into.at.Refresh
	}
	into.Pending = m.Done != nil
}

// Never is the moment of an answer that nothing is known of and nothing will be.
var Never = Moment{Age: -1, Refresh: -1}

// A Shown is what cards show of one reading, by language; it is safe for concurrent use.
type Shown struct {
	c    *Compiled
	r    *Reading
	tags atomic.Pointer[map[string]*Answer] // by language, never changed, only replaced
}

// Show makes the Shown of a reading.
func (c *Compiled) Show(r *Reading) *Shown { return &Shown{c: c, r: r} }

// Reading is what is shown.
func (s *Shown) Reading() *Reading { return s.r }

// mostTags bounds the languages that an answer is kept in.
const mostTags = 40

// In gives the answer in a language (BCP 47), to be filled.
func (s *Shown) In(tag string) *Answer {
	have := s.tags.Load()
	if have == nil {
		have = &map[string]*Answer{}
	}
	if a := (*have)[tag]; a != nil {
		return a
	}
	a := s.in(tag)
	if len(*have) < mostTags {
		more := maps.Clone(*have)
		more[tag] = a
		s.tags.Store(&more) // what another adds meanwhile is made again
	}
	return a
}

func (s *Shown) in(tag string) *Answer {
	a := s.c.empty()
	a.failed = true // where a value is missing, the service said something else than was expected
	for i := range s.r.Values {
		p, v := &s.c.Values[i], &s.r.Values[i]
		if v.Missing != "" {
			a.Missing[p.Name] = v.Missing
			continue
		}
		a.Human[p.Name] = human(v, p, tag)
		switch p.Type {
		case number:
			if a.Values[p.Name] = v.Number; isWhole(v) {
				a.Values[p.Name] = json.Number(v.Text)
			}
		case boolean:
			a.Values[p.Name] = v.Yes
		default:
			a.Values[p.Name] = v.Text
		}
	}
	if a.Category = plain.Optional(s.r.Active); a.Category == nil {
		a.Missing[category] = s.r.Reason
	}
	a.ready = a.begin(nil)
	return a
}

// isWhole says whether a value is an integer that a float64 does not hold: its digits come through as they are.
func isWhole(v *Value) bool {
	digits := strings.TrimPrefix(v.Text, "-")
	return len(digits) > 15 && digits[0] != '0' && strings.Trim(digits, "0123456789") == ""
}

// category is the key of the category's reason in Missing.
const category = "category"

// empty is an answer without values.
func (c *Compiled) empty() *Answer {
	a := &Answer{Values: map[string]any{}, Human: map[string]string{}, Missing: map[string]string{}, Credit: plain.Optional(c.Credit), CreditURL: plain.Optional(c.CreditURL)}
	for _, p := range c.Values {
		a.Values[p.Name] = nil
	}
	return a
}

// Failed is [Compiled.Without] for a reason that is for the owner alone: see [Answers.Public].
func (c *Compiled) Failed(reason string) *Answer {
	a := c.Without(reason)
	a.failed = true
	return a
}

// Without gives the answer where there is none, with the reason.
func (c *Compiled) Without(reason string) *Answer {
	a := c.empty()
	for name := range maps.Keys(a.Values) {
		a.Missing[name] = reason
	}
	a.Missing[category] = reason
	return a
}
