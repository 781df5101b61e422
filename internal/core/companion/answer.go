package companion

import (
	"maps"
	"slices"
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

	// ready is the beginning as JSON, up to the age; nil where it is not made yet.
	ready []byte
	done  <-chan struct{} // is closed when the question that is pending was answered
}

// Answers are those of a site's companions, by name.
type Answers map[string]*Answer

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

// AppendJSON appends them as JSON, byte for byte as encoding/json writes them.
func (a Answers) AppendJSON(b []byte) []byte {
	if a == nil {
		return append(b, "null"...)
	}
	b = append(b, '{')
	var few [8]string
	names := few[:0]
	for name := range a {
		names = append(names, name)
	}
	slices.Sort(names)
	for i, name := range names {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(jsonout.String(b, name), ':')
		b = a[name].AppendJSON(b)
	}
	return append(b, '}')
}

// Pending says whether a service is being asked.
func (a Answers) Pending() bool {
	for _, one := range a {
		if one.Pending {
			return true
		}
	}
	return false
}

// Wait waits until no service is asked any more, or a time is over.
func (a Answers) Wait(most time.Duration, over <-chan struct{}) {
	timer := time.NewTimer(most)
	defer timer.Stop()
	for _, one := range a {
		if one.done == nil {
			continue
		}
		select {
		case <-one.done:
		case <-timer.C:
			return
		case <-over:
			return
		}
	}
}

// Has says whether a category is active, written as name.category.
func (a Answers) Has(named string) bool {
	for name, one := range a {
		if one.Category != nil && len(named) > len(name) && named[:len(name)] == name && named[len(name)] == '.' && named[len(name)+1:] == *one.Category {
			return true
		}
	}
	return false
}

// A Moment is what of an answer changes while it is kept.
type Moment struct {
	Age     int             // seconds; -1 for none
	Refresh int             // seconds until asking again may bring something new; -1 for never
	Done    <-chan struct{} // of the question that is asked now, nil for none
}

// Fill gives a copy of an answer at a moment.
func (a *Answer) Fill(m Moment) *Answer {
	out := *a
	if m.Age >= 0 {
		out.Age = &m.Age
	}
	if m.Refresh >= 0 {
		out.RefreshAfter = &m.Refresh
	}
	out.done, out.Pending = m.Done, m.Done != nil
	return &out
}

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
	for i := range s.r.Values {
		p, v := &s.c.Values[i], &s.r.Values[i]
		if v.Missing != "" {
			a.Missing[p.Name] = v.Missing
			continue
		}
		a.Human[p.Name] = human(v, p, tag)
		switch p.Type {
		case number:
			a.Values[p.Name] = v.Number
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

// Without gives the answer where there is none, with the reason.
func (c *Compiled) Without(reason string) *Answer {
	a := c.empty()
	for name := range maps.Keys(a.Values) {
		a.Missing[name] = reason
	}
	a.Missing[category] = reason
	return a
}
