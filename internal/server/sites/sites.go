// Package sites knows the web sites that a service serves.
package sites

import (
	"fmt"
	"strings"

	"eastporch/internal/core/card"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/link"
	"eastporch/internal/core/refusal"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
)

// A Site is one web site whose visits are stored.
type Site struct {
	Host    string
	Name    string
	Privacy visit.Mode
	// TimeZone is the one that the site's days are of.
	TimeZone string
	// Local is what the site offers by where visitors are, and Sets the content variants
	// that the configuration has.
	Local *card.Local
	Sets  []variant.Set
	// Origin is where visitors reach it, such as https://heronlake.example; Inside says that this need not
	// be a public address.
	Origin string
	Inside bool
	// Refusal is the page for those whom its gates refuse.
	Refusal *refusal.Template
	// LinkHosts are the hosts, beside its own, that its links may lead to, and Missing is the page for whoever
	// asks for an unknown link.
	LinkHosts []string
	Missing   *link.Template
}

// Sites are all of them. They do not change.
type Sites struct {
	list []*Site
	by   map[string]*Site
}

// New makes them of a list, whose order they keep.
func New(list ...Site) *Sites {
	s := &Sites{by: map[string]*Site{}}
	for i := range list {
		s.list = append(s.list, &list[i])
		s.by[list[i].Host] = &list[i]
	}
	return s
}

// All lists the sites. The caller must not change them.
func (s *Sites) All() []*Site { return s.list }

// Of gives the site of a host, nil for none.
func (s *Sites) Of(host string) *Site { return s.by[host] }

// Find is [Sites.Of] for a host that must be one; the error is an [invalid.FieldError].
func (s *Sites) Find(host string) (*Site, error) {
	site := s.by[host]
	if site == nil {
		return nil, invalid.Field("site", fmt.Sprintf("%.64q is not a configured site", host), s.Hint())
	}
	return site, nil
}

// Hint says which hosts there are.
func (s *Sites) Hint() string {
	var hosts []string
	for _, site := range s.list {
		hosts = append(hosts, site.Host)
	}
	return "Configured are " + strings.Join(hosts, ", ") + "."
}
