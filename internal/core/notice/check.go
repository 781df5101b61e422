package notice

import (
	"errors"
	"fmt"
	"net/mail"
	"regexp"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
)

// Bounds of what is said.
const (
	MaxNotices  = 100 // of a site
	MaxChannels = 20
	maxTitle    = 60
	maxSubject  = 200
	maxText     = 20_000
	maxHTML     = 60_000
	maxTo       = 20
	maxAddress  = 254
)

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// CheckName refuses what cannot be the name of a notice or channel.
func CheckName(name string) error {
	if !nameForm.MatchString(name) {
		return invalid.Field("name", fmt.Sprintf("%.60q is not a name", name), "Begin with a small letter; small letters, digits and - may follow, up to 40 together.")
	}
	return nil
}

// A Compiled is a notice that was checked, with its layouts read. It is immutable and safe for concurrent use.
type Compiled struct {
	Said
	subject, text, html Layout
	to                  []Layout
}

const factsHint = "docs/notices.md lists the facts of each kind of notice."

// Compile checks what is said of a notice, cleans it and reads its layouts. The error names the field, and of a
// layout the line.
func Compile(s Said, known *Known) (*Compiled, error) {
	s.Title = strings.TrimSpace(s.Title)
	if err := plain.Check(s.Title, maxTitle); err != nil || s.Title == "" {
		return nil, invalid.Field("title", reasonOr(err, "it is empty"), "Give a name, up to 60 bytes.")
	}
	if err := s.Trigger.check(known); err != nil {
		return nil, err
	}
	kind, there := known.Channels[s.Channel]
	if !there {
		return nil, invalid.Field("channel", fmt.Sprintf("there is no channel %.40q", s.Channel), "Save the channel first, or give one that there is.")
	}
	if err := s.checkTimes(); err != nil {
		return nil, err
	}
	c := &Compiled{Said: s}
	facts := known.Facts(s.Trigger.Kind)
	is := func(name string) bool { _, ok := facts[name]; return ok }
	for _, part := range []struct {
		field, text string
		most        int
		parse       func(string, func(string) bool) (Layout, error)
		into        *Layout
	}{{"subject", s.Subject, maxSubject, ParseText, &c.subject}, {"text", s.Text, maxText, ParseText, &c.text}, {"html", s.HTML, maxHTML, ParseHTML, &c.html}} {
		if len(part.text) > part.most {
			return nil, invalid.Field(part.field, fmt.Sprintf("it has %d bytes, %d are allowed", len(part.text), part.most), "Make it shorter.")
		}
		layout, err := part.parse(part.text, is)
		var at *LayoutError
		if errors.As(err, &at) {
			return nil, invalid.Field(fmt.Sprintf("%s, line %d", part.field, at.Line), at.Reason, factsHint)
		}
		*part.into = layout
	}
	switch {
	case len(c.subject.lines) != 1 || strings.TrimSpace(s.Subject) == "":
		return nil, invalid.Field("subject", fmt.Sprintf("it has %d lines", len(c.subject.lines)), "Give one line.")
	case len(c.subject.lines[0].needs) > 0 && !c.subject.fixedPart():
		return nil, invalid.Field("subject", "nothing would be left of it where its fact is missing", `Write a word of your own too, or {{or .country "an unknown country"}}.`)
	case strings.TrimSpace(s.Text) == "":
		return nil, invalid.Field("text", "it is empty", "Mails and messages need a text; HTML may come in addition.")
	}
	return c, c.readTo(kind, is)
}

func reasonOr(err error, reason string) string {
	if err != nil {
		return err.Error()
	}
	return reason
}

// fixedPart says whether something is left of a line where facts are taken out.
func (l Layout) fixedPart() bool {
	return strings.TrimSpace(actions.ReplaceAllString(l.lines[0].text, "")) != ""
}

var actions = regexp.MustCompile(`\{\{.*?\}\}`)

// Asker stands for whoever asked.
const Asker = "{{.asker}}"

// readTo reads the recipients.
func (c *Compiled) readTo(kind string, is func(string) bool) error {
	switch {
	case kind == Webhook && len(c.To) > 0:
		return invalid.Field("to", "a webhook has no recipients", "Leave it empty; the channel says where messages go.")
	case kind == Webhook:
		return nil
	case len(c.To) == 0 || len(c.To) > maxTo:
		return invalid.Field("to", fmt.Sprintf("it has %d recipients", len(c.To)), fmt.Sprintf("Give 1 to %d.", maxTo))
	}
	c.To = slices.Clone(c.To)
	for i, text := range c.To {
		text = strings.TrimSpace(text)
		c.To[i] = text
		field := fmt.Sprintf("to[%d]", i)
		layout, err := ParseText(text, is)
		if err != nil || len(layout.lines) != 1 {
			return invalid.Field(field, reasonOr(err, "it has more than one line"), "Give a mail address.")
		}
		if text != Asker {
			if err := checkTo(field, text, layout); err != nil {
				return err
			}
		}
		c.to = append(c.to, layout)
	}
	return nil
}

// checkTo checks a recipient that is no one's but the owner's: what visitors and askers say never decides where a
// mail goes.
func checkTo(field, text string, layout Layout) error {
	at := strings.LastIndexByte(text, '@')
	if strings.Contains(text[at+1:], "{{") || at < 0 {
		return invalid.Field(field, "facts may stand before the @ only", "Write the domain out, so that no mail goes elsewhere.")
	}
	for _, name := range layout.Names() {
		if !slices.Contains(recipientFacts, name) {
			return invalid.Field(field, fmt.Sprintf("the fact %s may not decide who gets the mail", name), "Facts of few values may: "+strings.Join(recipientFacts, ", ")+".")
		}
	}
	if err := CheckRecipient(actions.ReplaceAllString(text, "x")); err != nil {
		return invalid.Field(field, err.Error(), "Write it like race-office@heronlake.example.")
	}
	return nil
}

// CheckRecipient refuses what is no mail address alone (RFC 5322, addr-spec, of ASCII and with a domain).
func CheckRecipient(text string) error {
	read, err := mail.ParseAddress(text)
	if err != nil || read.Address != text || len(text) > maxAddress || strings.ContainsFunc(text, func(r rune) bool { return r <= ' ' || r >= 0x7f }) ||
		strings.ContainsAny(text, `"\,;:<>()[]`) {
		return fmt.Errorf("%.80q is not a mail address", plain.Clean(text, 80))
	}
	if domain := text[strings.LastIndexByte(text, '@')+1:]; !strings.Contains(strings.Trim(domain, "."), ".") {
		return fmt.Errorf("%.80q has no whole domain", plain.Clean(text, 80))
	}
	return nil
}

// Mailbox folds the spellings of a mail address that reach one mailbox at many providers, for limits: a tag behind
// +, and dots. The address was checked.
func Mailbox(address string) string {
	at := strings.LastIndexByte(address, '@')
	if at < 0 {
		return address
	}
	local, _, _ := strings.Cut(address[:at], "+")
	return strings.ToLower(strings.ReplaceAll(local, ".", "") + strings.TrimSuffix(address[at:], "."))
}

// MaskRecipient hides who a mail address is of.
func MaskRecipient(address string) string {
	at := strings.LastIndexByte(address, '@')
	if at < 1 {
		return address
	}
	first := []rune(address)[0]
	return string(first) + "•••" + address[at:]
}

// check checks a trigger, and empties what belongs to other kinds.
func (t *Trigger) check(known *Known) error {
	own := Trigger{Kind: t.Kind}
	switch t.Kind {
	case OnAsk, OnCheckup, OnEdition:
	case OnCountry:
		if own.Days = t.Days; t.Days < 1 || t.Days > 365 {
			return invalid.Field("trigger.days", fmt.Sprintf("%d is not a number of days", t.Days), "Give 1 to 365.")
		}
	case OnLabel:
		own.Labels = t.Labels
		if len(t.Labels) == 0 || len(t.Labels) > 20 {
			return invalid.Field("trigger.labels", fmt.Sprintf("there are %d", len(t.Labels)), "Give 1 to 20 labels.")
		}
		for i, label := range t.Labels {
			if !known.Labels(label) {
				return invalid.Field(fmt.Sprintf("trigger.labels[%d]", i), fmt.Sprintf("no range has the label %.60q", label), "Labels stand in the configuration and in sources.")
			}
		}
	case OnRefusals:
		own.Times, own.Least = t.Times, t.Least
		if !(t.Times >= 1.5 && t.Times <= 100) {
			return invalid.Field("trigger.times", fmt.Sprintf("%v is not how many times", t.Times), "Give 1.5 to 100.")
		}
		if t.Least < 1 || t.Least > 1_000_000 {
			return invalid.Field("trigger.least", fmt.Sprintf("%d is not a number of refusals", t.Least), "Give 1 to 1000000.")
		}
	default:
		words := make([]string, len(Kinds))
		for i, kind := range Kinds {
			words[i] = string(kind)
		}
		return invalid.Word("trigger.kind", string(t.Kind), words)
	}
	if t.Kind.OfVisit() {
		if own.Category = t.Category; t.Category != "" && !slices.Contains(known.Categories, t.Category) {
			return invalid.Field("trigger.category", fmt.Sprintf("no companion has the category %.60q", t.Category), "Write it like weather.storm.")
		}
	}
	*t = own
	return nil
}

// checkTimes checks the limit and the quiet time.
func (s *Said) checkTimes() error {
	if s.Trigger.Kind == OnAsk {
		s.Quiet, s.Limit.Each = nil, false // whoever asks waits for the answer
	}
	if s.Limit.Most < 1 || s.Limit.Most > 100 {
		return invalid.Field("limit.most", fmt.Sprintf("%d is not how many", s.Limit.Most), "Give 1 to 100.")
	}
	if s.Limit.Every != "hour" && s.Limit.Every != "day" {
		return invalid.Word("limit.every", s.Limit.Every, []string{"hour", "day"})
	}
	if s.Quiet == nil {
		return nil
	}
	q := *s.Quiet
	s.Quiet = &q
	for field, text := range map[string]string{"quiet.from": q.From, "quiet.to": q.To} {
		if _, err := minutes(text); err != nil {
			return invalid.Field(field, fmt.Sprintf("%.20q is not a time of day", text), "Write it like 22:00.")
		}
	}
	if q.Then != "digest" && q.Then != "each" {
		return invalid.Word("quiet.then", q.Then, []string{"digest", "each"})
	}
	return nil
}

// minutes reads HH:MM as minutes since midnight.
func minutes(text string) (int, error) {
	at, err := time.Parse("15:04", text)
	if err == nil && len(text) != len("15:04") {
		err = errors.New("two digits each")
	}
	return at.Hour()*60 + at.Minute(), err
}

// Sentence says in words what has the notice written.
func (t *Trigger) Sentence() string {
	only := ""
	if t.Category != "" {
		only = " while it is " + t.Category + " there"
	}
	switch t.Kind {
	case OnAsk:
		return "When somebody asks by the form or the API."
	case OnCountry:
		return fmt.Sprintf("When a visit comes from a country not seen for %s%s.", count(t.Days, "day"), only)
	case OnLabel:
		return "When a visit comes with the label " + strings.Join(t.Labels, " or ") + only + "."
	case OnRefusals:
		return fmt.Sprintf("When the gate refuses %s times as many as in the hour before, and at least %d.", plain.Decimal(t.Times), t.Least)
	case OnCheckup:
		return "When a check turns from good to a warning."
	case OnEdition:
		return "When an edition waits to be used."
	}
	return ""
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
