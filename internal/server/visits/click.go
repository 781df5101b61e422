package visits

import (
	"crypto/rand"
	"net/netip"
	"strings"
	"time"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/link"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// A Click is somebody who followed a link.
type Click struct {
	Time        time.Time
	Site        *sites.Site
	Code        string
	Destination string        // as the owner wrote it
	Trail       *caller.Trail // how the visitor was found
	Header      map[string][]string
	Choice      string         // the language that the visitor chose before
	Gate        *gate.Decision // nil where the gates were not asked
	Preview     bool           // the request only looks where the link leads
	// Repeated says whether the same visitor followed the link a moment before.
	Repeated func(v netip.Addr, agent string) bool
}

// Click makes the visit of a click, and leaves of it what its site keeps.
func (s *Visits) Click(k Click) (visit.QueuedVisit, error) {
	id, err := visit.NewID(k.Time, rand.Reader)
	if err != nil {
		return visit.QueuedVisit{}, err
	}
	at, _ := visit.TimeOf(id)
	v := scratch.Get().(*visit.Visit)
	defer giveBack(v)
	v.ID, v.Time, v.Site, v.Path, v.Link, v.Destination = id, at, k.Site.Host, link.Path(k.Code), &k.Code, &k.Destination
	v.Earlier = []visit.EarlierFacts{}
	if referrer := first(k.Header["Referer"]); referrer != "" {
		clean := plain.Clean(referrer, visit.MaxReferrer)
		v.Referrer = &clean
	}
	if agent := first(k.Header["User-Agent"]); agent != "" {
		clean := plain.Clean(agent, visit.MaxAgent)
		v.UserAgent = &clean
	}
	v.Card = s.Cards.Found(k.Trail, k.Header, card.RequestContext{At: k.Site.Local, Choice: k.Choice}, at)
	v.Trail, v.Card.Gate = *k.Trail, k.Gate
	v.Marks = s.Marker.OfClick(k.Preview, v.UserAgent, v.Card.Labels)
	if len(v.Marks) == 0 && k.Repeated(k.Trail.Visitor.Addr, plain.Value(v.UserAgent)) {
		v.Marks = []string{visit.MarkRepeat}
	}
	if err = s.Privacy.Keep(v, k.Site.Privacy, strings.TrimSpace(first(k.Header["Sec-Gpc"])) == "1"); err != nil {
		return visit.QueuedVisit{}, err
	}
	return s.facts.Queued(v)
}

func first(lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	return lines[0]
}
