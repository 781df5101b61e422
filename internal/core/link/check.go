package link

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/language"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// Bounds of what is said of a link.
const (
	mostName        = 80
	mostNote        = 1000
	mostDestination = 2048
	mostRoutes      = 20
	mostHandOn      = 20
)

// Site is what the destinations of links are checked against.
type Site struct {
	Host  string
	Hosts []string // others that links may lead to
	// Served are the hosts of all sites, at each of which the same links are followed.
	Served []string
	// Variants says which values each content variant may have.
	Variants map[string][]string
}

// CheckCode says what is wrong with an owner's own word, and gives it as the link will have it.
func CheckCode(code string) (string, error) {
	folded := Fold(code)
	if folded == "" {
		return "", invalid.Field("code", fmt.Sprintf("%.40q is no code", code), fmt.Sprintf("Write %d to %d letters a to z and digits, with single hyphens between.", codeLeast, codeMost))
	}
	return folded, nil
}

// Check says what is wrong with what is said of a link, and gives it in its one form: codes of countries in
// capitals, languages as BCP 47 has them, a status. now is the time; an end must come after it unless it is
// before's own.
func (s Site) Check(said Said, before *time.Time, now time.Time) (Said, error) {
	said.Name, said.Note = strings.TrimSpace(said.Name), strings.TrimSpace(said.Note)
	for _, text := range []struct {
		field, value string
		most         int
	}{{"name", said.Name, mostName}, {"note", said.Note, mostNote}} {
		if err := plain.Check(text.value, text.most); err != nil {
			return said, invalid.Field(text.field, err.Error(), "Write something shorter, on one line.")
		}
	}
	if said.Status = cmp.Or(said.Status, 302); !slices.Contains([]int{301, 302, 307, 308}, said.Status) {
		return said, invalid.Field("status", fmt.Sprintf("%d is not a status of a redirect", said.Status), "Give 302, 307, 301 or 308; browsers may keep the last two for good.")
	}
	if said.Limit != nil && *said.Limit < 1 {
		return said, invalid.Field("limit", "it is less than 1", "Give how often the link may redirect, or leave it out; disable a link that nobody is to follow.")
	}
	if said.Until != nil {
		until := said.Until.UTC().Truncate(time.Second)
		if said.Until = &until; !until.After(now) && (before == nil || !before.Equal(until)) {
			return said, invalid.Field("until", "it has passed", "Give a time to come; disable the link to end it now.")
		}
	}
	var err error
	if said.Destination, err = s.destination("destination", said.Destination); err != nil {
		return said, err
	}
	if said.Routes, err = s.routes(said.Routes); err != nil {
		return said, err
	}
	said.HandOn, err = handOn(said.HandOn)
	return said, err
}

func (s Site) routes(list []Route) ([]Route, error) {
	if len(list) > mostRoutes {
		return nil, invalid.Field("routes", fmt.Sprintf("there are %d, %d are allowed", len(list), mostRoutes), "Put countries or languages of one destination into one route.")
	}
	out := make([]Route, 0, len(list))
	for i, r := range list {
		at := fmt.Sprintf("routes.%d.", i)
		if len(r.Countries)+len(r.Languages)+len(r.Variants) == 0 {
			return nil, invalid.Field(at+"countries", "the route is for everybody, so that no later one is met", "Say for whom it is, or make it the destination of the link.")
		}
		clean := Route{Countries: []string{}, Languages: []string{}, Variants: []string{}}
		for n, text := range r.Countries {
			code, err := almanac.ReadCode(strings.TrimSpace(text))
			if err != nil {
				return nil, invalid.Field(fmt.Sprintf("%scountries.%d", at, n), err.Error(), "Give two letters of ISO 3166-1, or the name in English.")
			}
			clean.Countries = append(clean.Countries, code)
		}
		for n, text := range r.Languages {
			tag, err := language.Parse(text)
			if err != nil || tag == language.Und {
				return nil, invalid.Field(fmt.Sprintf("%slanguages.%d", at, n), fmt.Sprintf("%.40q is not a language tag", text), "Write BCP 47, such as pt or pt-PT.")
			}
			clean.Languages = append(clean.Languages, tag.String())
		}
		for n, text := range r.Variants {
			name, value, _ := strings.Cut(text, "=")
			if !slices.Contains(s.Variants[name], value) {
				return nil, invalid.Field(fmt.Sprintf("%svariants.%d", at, n), fmt.Sprintf("%.60q is not a content variant of the site", text), "Write NAME=VALUE of one that the site has, as in offer=club.")
			}
			clean.Variants = append(clean.Variants, text)
		}
		var err error
		if clean.Destination, err = s.destination(at+"destination", r.Destination); err != nil {
			return nil, err
		}
		out = append(out, clean)
	}
	return out, nil
}

// destination checks where a link may lead: a path of the site, or an address of a host that the owner
// named; never to another link, which might lead back.
func (s Site) destination(field, text string) (string, error) {
	bad := func(reason, hint string) (string, error) { return "", invalid.Field(field, reason, hint) }
	const write = "Write a path of the site, such as /en/tickets, or a whole address that begins with https://."
	text = strings.TrimSpace(text)
	if text == "" {
		return bad("it is missing", write)
	}
	if err := plain.Check(text, mostDestination); err != nil {
		return bad(err.Error(), write)
	}
	if strings.ContainsFunc(text, plain.Misleads) {
		return bad("it has a character that turns the direction of text or ends a line", "Leave it out, or escape it.")
	}
	if strings.ContainsAny(text, "\\ ") {
		return bad("it has a space or a backslash in it", "Escape them: %20 and %5C.")
	}
	to, err := url.Parse(text)
	if err != nil {
		return bad("it is not an address", write)
	}
	switch {
	case to.Scheme == "" && to.Host == "" && !strings.HasPrefix(text, "/"), to.Scheme == "" && to.Host != "":
		return bad(fmt.Sprintf("%.60q is neither a path nor a whole address", text), write)
	case to.Scheme != "" && to.Scheme != "http" && to.Scheme != "https" || to.Opaque != "":
		return bad(fmt.Sprintf("links lead to http and https, not to %.20s:", to.Scheme), write)
	case to.User != nil:
		return bad("it has a user name or password in it, which everybody would see", "Leave out what stands before @.")
	case to.Scheme != "" && !s.allows(to.Hostname()):
		return bad(fmt.Sprintf("%.60q is not a host that links may lead to", to.Hostname()), "Name it under sites[].link_hosts in the configuration; the site's own needs no naming.")
	}
	if own := to.Host == "" || s.serves(to.Hostname()); own && isLink(to.Path) {
		return bad("it leads to a link, which may lead back", "Give where that link leads.")
	}
	return text, nil
}

// isLink says whether a path is one of a link, however it is written.
func isLink(path string) bool {
	clean := strings.Trim(strings.ToLower(path), "/") + "/"
	for strings.Contains(clean, "//") {
		clean = strings.ReplaceAll(clean, "//", "/")
	}
	for _, part := range strings.Split(clean, "/") {
		if part == ".." || part == "." {
			return true // nobody needs it, and it may become one
		}
	}
	return strings.HasPrefix("/"+clean, visit.LinkPath) || strings.Contains(clean, "/to/") && strings.HasPrefix(clean, "porch/")
}

// serves says whether links are followed at a host.
func (s Site) serves(host string) bool {
	host = strings.TrimSuffix(host, ".")
	return strings.EqualFold(host, s.Host) || slices.ContainsFunc(s.Served, func(h string) bool { return strings.EqualFold(h, host) })
}

func (s Site) allows(host string) bool {
	return strings.EqualFold(host, s.Host) || slices.ContainsFunc(s.Hosts, func(h string) bool { return strings.EqualFold(h, host) })
}

func handOn(names []string) ([]string, error) {
	if len(names) > mostHandOn {
		return nil, invalid.Field("hand_on", fmt.Sprintf("there are %d names, %d are allowed", len(names), mostHandOn), "Write * for all.")
	}
	out := []string{}
	for i, name := range names {
		if err := plain.Check(name, mostName); err != nil || name == "" {
			return nil, invalid.Field(fmt.Sprintf("hand_on.%d", i), "this is not the name of a query parameter", "Write names such as ticket, or * for all.")
		}
		if name == "*" {
			return []string{"*"}, nil
		}
		out = append(out, name)
	}
	return out, nil
}
