package porch

import (
	"crypto/rand"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/refusal"
	"eastporch/internal/core/rehearsal"
	"eastporch/internal/core/signed"
)

// openGates reads the rules of the site. The error says what is wrong with them.
func (p *Porch) openGates() error {
	known := gate.Known{}
	var err error
	if known.Groups, err = almanac.NewGroups(p.site.Groups); err != nil {
		return fmt.Errorf("groups: %w", err)
	}
	sets := map[string][]netip.Prefix{}
	for name, list := range p.site.Labels {
		for _, text := range list {
			prefix, err := addr.ParsePrefix(text)
			if err != nil {
				return fmt.Errorf("labels: %s: %w", name, err)
			}
			sets[name] = append(sets[name], prefix)
		}
	}
	p.pipeline.Labels = addr.NewLabels(sets)
	known.Labels = func(name string) bool { _, named := p.site.Labels[name]; return named }
	if p.site.Areas != nil {
		text, err := io.ReadAll(p.site.Areas)
		if err == nil {
			known.Areas, err = geo.ReadAreas(text)
		}
		if err != nil {
			return fmt.Errorf("areas: %w", err)
		}
	}
	if p.site.Gates == nil {
		return nil
	}
	text, err := io.ReadAll(io.LimitReader(p.site.Gates, gate.MaxFile+1))
	if err != nil {
		return fmt.Errorf("gates: %w", err)
	}
	rules, err := gate.ReadRules(text)
	if err != nil {
		return err
	}
	clean, findings := gate.Check(rules, known, true, time.Now())
	if f, bad := gate.Wrong(findings); bad {
		return fmt.Errorf("%w: %s: %s. %s", gate.ErrRules, f.Field, f.Text, f.Hint)
	}
	p.local.Gates = gate.New(clean, known)
	return nil
}

// targetOf is what a request asks for, raw as it came.
func targetOf(r *http.Request) string {
	if r.RequestURI != "" {
		return r.RequestURI
	}
	return r.URL.RequestURI()
}

// refuse shows the page of refusal.
func (p *Porch) refuse(w http.ResponseWriter, r *http.Request, made *card.Card) {
	how := p.local.Gates.Refusal(plain.Value(made.Gate.Gate))
	nonce := rand.Text()
	page, err := refusal.Standard().Write(refusal.Subject{
		Site: p.site.Name, Reference: gate.Reference{CountryCode: plain.Value(made.Location.CountryCode)}, Refusal: how, Accept: r.Header.Get("Accept-Language"), Default: p.site.Default,
	}, nonce)
	if err != nil { // it is our own template
		page = []byte("This page is not open where you are.")
	}
	h := w.Header()
	h.Set("Cache-Control", "private, no-store")
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", fmt.Sprintf("default-src 'none'; style-src 'nonce-%s'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'", nonce))
	w.WriteHeader(how.Status)
	_, _ = w.Write(page) // whose reader may be gone
}

// rehearsed makes the card of whoever is supposed to have sent a request; ok is false where it is no
// rehearsal that is believed.
func (p *Porch) rehearsed(r *http.Request) (made card.Card, ok bool) {
	header := r.Header.Get(rehearsal.Header)
	var t rehearsal.Token
	if header == "" || p.site.RehearsalKey == nil || signed.Open(header, p.site.RehearsalKey, &t) != nil {
		return made, false
	}
	scheme := "http"
	if r.TLS != nil || p.finder.Trusts(peer(r)) && strings.EqualFold(r.Header.Get("X-Forwarded-Proto"), "https") {
		scheme = "https"
	}
	now := time.Now()
	if t.Fits(p.site.Host, scheme, r.Host, r.Method, targetOf(r), now) != nil || !p.used.Use(t.Number, time.Unix(t.Expires, 0), now) {
		return made, false
	}
	var ip netip.Addr
	if t.As.Address != "" {
		ip, _ = addr.Parse(t.As.Address) // which the service wrote
	}
	if t.As.At > 0 {
		now = time.Unix(t.As.At, 0)
	}
	trail := p.finder.Given(ip)
	trail.Obtained = caller.ObtainedRehearsed
	req := p.context(r)
	req.Choice = t.As.Choice
	made = p.pipeline.Found(&trail, map[string][]string{"Accept-Language": {t.As.Languages}}, req, now)
	return made.In(made.Locale.Language), true
}
