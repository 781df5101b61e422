package notice

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"eastporch/internal/core/plain"
)

// A Draft is what a notice says with certain facts.
type Draft struct {
	To            []string
	Subject       string
	Text, HTML    string
	Lines, InHTML []Line
	Facts         map[string]string // those that the layouts have and that are known
}

// Write writes the notice. A recipient whose fact is missing is left out; one that is none then is an error.
func (c *Compiled) Write(f Facts) (d Draft, err error) {
	d.Facts = map[string]string{}
	for _, l := range []Layout{c.subject, c.text, c.html} {
		for _, name := range l.Names() {
			if value := f.Values[name]; value != "" {
				d.Facts[name] = value
			}
		}
	}
	for i, l := range c.to {
		text, lines, err := l.Write(f)
		if err != nil {
			return d, err
		}
		if lines[0].Dropped != nil {
			continue
		}
		if err := CheckRecipient(text); err != nil {
			return d, fmt.Errorf("the recipient %s: %w", c.To[i], err)
		}
		if !slices.Contains(d.To, text) {
			d.To = append(d.To, text)
		}
	}
	subject, lines, err := c.subject.Write(f)
	if err != nil {
		return d, err
	}
	if lines[0].Dropped != nil { // what is left without facts
		subject = strings.Join(strings.Fields(actions.ReplaceAllString(c.subject.lines[0].text, "")), " ")
	}
	d.Subject = plain.Clean(strings.TrimSpace(subject), maxSubject)
	if d.Text, d.Lines, err = c.text.Write(f); err != nil {
		return d, err
	}
	d.HTML, d.InHTML, err = c.html.Write(f)
	return d, err
}

// mostInDigest bounds how many notices a digest holds; those beyond are counted.
const mostInDigest = 50

// Digest makes one of several, in their order; left says how many more there were.
func (c *Compiled) Digest(list []Draft, left int64) Draft {
	if len(list) > mostInDigest {
		left += int64(len(list) - mostInDigest)
		list = list[:mostInDigest]
	}
	d := Draft{Facts: map[string]string{}, Subject: plain.Clean(fmt.Sprintf("%s: %d", c.Title, int64(len(list))+left), maxSubject)}
	var texts, pages []string
	for _, one := range list {
		for _, to := range one.To {
			if !slices.Contains(d.To, to) {
				d.To = append(d.To, to)
			}
		}
		texts = append(texts, one.Subject+"\n\n"+one.Text)
		if one.HTML != "" {
			pages = append(pages, "<section>\n"+one.HTML+"\n</section>")
		}
	}
	if len(list) == 1 && left == 0 {
		return list[0]
	}
	if len(list) == 1 {
		d.Subject, d.Facts = list[0].Subject, maps.Clone(list[0].Facts)
		texts[0] = list[0].Text
	}
	if left > 0 {
		more := fmt.Sprintf("And %d more, which the limit of this notice left out.", left)
		texts = append(texts, more)
		if len(pages) > 0 {
			pages = append(pages, "<p>"+more+"</p>")
		}
	}
	d.Text, d.HTML = strings.Join(texts, "\n\n----\n\n"), strings.Join(pages, "\n<hr>\n")
	return d
}

// WantsCompanions says whether the notice has facts of companions, or a condition on one.
func (c *Compiled) WantsCompanions() bool {
	for _, l := range []Layout{c.subject, c.text, c.html} {
		if slices.ContainsFunc(l.Names(), func(name string) bool { return strings.Contains(name, ".") }) {
			return true
		}
	}
	return c.Trigger.Category != ""
}

// ToAsker says whether the notice goes to whoever asked.
func (c *Compiled) ToAsker() bool { return slices.Contains(c.To, Asker) }

// Needed are the facts without which a line is dropped.
func (c *Compiled) Needed() []string {
	var names []string
	for _, l := range []Layout{c.subject, c.text, c.html} {
		for _, line := range l.lines {
			names = append(names, line.needs...)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}
