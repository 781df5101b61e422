// Package link has tracked links: what owners may say of one, where it leads whom, how it stands, and the
// page for whoever asks for an unknown link.
package link

import (
	"crypto/rand"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/language"

	"eastporch/internal/core/locale"
	"eastporch/internal/core/visit"
)

// Errors of links.
var (
	ErrNoLink = errors.New("no link has this code")
	ErrTaken  = errors.New("another link has this code")
)

// A State is how a link stands.
type State string

// The states. All but Active have ended: the link redirects nobody.
const (
	Active   State = "active"
	Disabled State = "disabled"
	Expired  State = "expired"
	AtLimit  State = "limit" // it has redirected as often as it may
)

// Bounds of codes, in characters.
const (
	codeLeast = 2
	codeMost  = 32
	codeMade  = 5
)

// Fold gives a code as links are known by it, with small letters; "" where no link can have it.
func Fold(code string) string {
	if len(code) < codeLeast || len(code) > codeMost || code[0] == '-' || code[len(code)-1] == '-' || strings.Contains(code, "--") {
		return ""
	}
	for i := range len(code) {
		c := code[i] | 0x20
		if isLetter := c >= 'a' && c <= 'z'; !isLetter && (code[i] < '0' || code[i] > '9') && code[i] != '-' {
			return ""
		}
	}
	return strings.ToLower(code)
}

// made are the characters of codes that nobody chose: none that looks like another, and no vowels, so that
// no words come about.
const made = "23456789bcdfghjkmnpqrstvwxz"

// NewCode makes a code up.
func NewCode() string {
	var random [codeMade]byte
	_, _ = rand.Read(random[:]) // which never fails
	for i, b := range random {
		random[i] = made[int(b)%len(made)]
	}
	return string(random[:])
}

// A Compiled is a link ready to be followed. It does not change, and is safe for concurrent use.
type Compiled struct {
	Link
	Off   *time.Time // since when it is disabled; nil where it is not
	own   way        // for everybody whom no route fits
	to    []way
	tags  []language.Tag // of the site's language, and of all routes
	match *locale.Matcher
}

// way is a route that was read.
type way struct {
	Route
	url  *url.URL
	text string // of the url
}

func wayOf(r Route) way {
	to, _ := url.Parse(r.Destination) // which was checked
	return way{r, to, to.String()}
}

// Compile reads a link that was checked; siteLanguage is that of the pages for everybody else, BCP 47.
func Compile(l Link, off *time.Time, siteLanguage string) *Compiled {
	c := &Compiled{Link: l, Off: off, tags: []language.Tag{language.Make(siteLanguage)}}
	c.own = wayOf(Route{Destination: l.Destination})
	for _, r := range l.Routes {
		c.to = append(c.to, wayOf(r))
		for _, tag := range r.Languages {
			c.tags = append(c.tags, language.Make(tag))
		}
	}
	if len(c.tags) > 1 {
		c.match = locale.NewMatcher(c.tags)
	}
	return c
}

// WantsPlace says whether the destination depends on more than the request's languages.
func (c *Compiled) WantsPlace() bool {
	return slices.ContainsFunc(c.to, func(w way) bool { return len(w.Countries) > 0 || len(w.Variants) > 0 })
}

// Stand gives the state of a link and since when, which is nil for what has no such time. Used is how often
// it has redirected.
func (c *Compiled) Stand(now time.Time, used int64) (State, *time.Time) {
	return c.Said.Stand(c.Off, now, used)
}

// Stand is [Compiled.Stand] for a link that is not followed; off is since when it is disabled, if it is.
func (s *Said) Stand(off *time.Time, now time.Time, used int64) (State, *time.Time) {
	switch {
	case off != nil:
		return Disabled, off
	case s.Until != nil && !now.Before(*s.Until):
		return Expired, s.Until
	case s.Limit != nil && used >= *s.Limit:
		return AtLimit, nil
	}
	return Active, nil
}

// A Visitor is who a destination is chosen for; what is not known is empty.
type Visitor struct {
	CountryCode string
	Choice      string // the language that the visitor chose before, BCP 47
	Accept      string // the Accept-Language header
	Variants    map[string]string
}

// Choose gives the destination as the owner wrote it, and the address to redirect to: origin is where
// visitors reach the site, query what they asked with.
func (c *Compiled) Choose(v Visitor, origin, query string) (destination, address string) {
	to := &c.own
	if len(c.to) > 0 {
		tag := c.suits(v)
		for i := range c.to {
			if c.to[i].fits(v, tag) {
				to = &c.to[i]
				break
			}
		}
	}
	address = to.text
	if query != "" && len(c.HandOn) > 0 {
		address = c.handOn(to.url, query).String()
	}
	if to.url.Host == "" {
		address = origin + address
	}
	return to.Destination, address
}

// suits gives the language of all that the link leads to that suits a visitor best; undetermined where none
// is asked for.
func (c *Compiled) suits(v Visitor) language.Tag {
	if c.match == nil {
		return language.Und
	}
	wanted := locale.Asked(v.Accept)
	if chosen, err := locale.Read(v.Choice); err == nil && chosen != language.Und {
		wanted = append([]language.Tag{chosen}, wanted...)
	}
	if i, ok := c.match.Best(wanted...); ok {
		return c.tags[i]
	}
	return language.Und
}

func (w *way) fits(v Visitor, tag language.Tag) bool {
	return (len(w.Countries) == 0 || slices.Contains(w.Countries, v.CountryCode)) &&
		(len(w.Languages) == 0 || slices.ContainsFunc(w.Languages, func(l string) bool { return language.Make(l) == tag })) &&
		(len(w.Variants) == 0 || slices.ContainsFunc(w.Variants, func(wanted string) bool {
			name, value, _ := strings.Cut(wanted, "=")
			return v.Variants[name] == value
		}))
}

// mostHandedOn bounds what is handed on, in bytes.
const mostHandedOn = 2048

// handOn adds the parameters that the owner hands on; those that a destination has stay its own.
func (c *Compiled) handOn(to *url.URL, query string) *url.URL {
	given, _ := url.ParseQuery(query) // what can be read of it
	own := to.Query()
	more := url.Values{}
	for name, values := range given {
		if !own.Has(name) && (c.HandOn[0] == "*" || slices.Contains(c.HandOn, name)) {
			more[name] = values
		}
	}
	text := more.Encode()
	if text == "" || len(text) > mostHandedOn {
		return to
	}
	with := *to
	if with.RawQuery != "" {
		text = with.RawQuery + "&" + text
	}
	with.RawQuery = text
	return &with
}

// IsPreview says whether a request only looks where a link leads, as its method and header say: HEAD, and
// browsers that fetch ahead (Sec-Purpose of Fetch Metadata, and its forerunners).
func IsPreview(method string, header map[string][]string) bool {
	if method == "HEAD" {
		return true
	}
	for _, name := range []string{"Sec-Purpose", "Purpose", "X-Purpose", "X-Moz"} {
		for _, line := range header[name] {
			if line = strings.ToLower(line); strings.Contains(line, "prefetch") || strings.Contains(line, "preview") || strings.Contains(line, "prerender") {
				return true
			}
		}
	}
	return false
}

// Path is where a code is followed.
func Path(code string) string { return visit.LinkPath + code }
