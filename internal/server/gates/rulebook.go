package gates

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/document"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/sites"
)

// decided is what was decided by rules.
type decided interface {
	Counts(ctx context.Context, site string, from, to time.Time) (map[gate.CountKey]int64, error)
	Refused(ctx context.Context, site, reference string) ([]gate.Refused, error)
	EachPast(ctx context.Context, site string, from, to time.Time, most int, do func(*gate.Past)) (read int, err error)
}

// Options says what a rulebook is made of. All of it is required.
type Options struct {
	Store     decided
	Documents *documents.Documents
	Counter   *Counter
	Known     gate.Known
	Names     Names
	Now       func() time.Time
}

// Names are what rules may name, to choose from.
type Names struct{ Areas, Labels []string }

// A Rulebook is where the rules of sites are read and changed. It is safe for concurrent use.
type Rulebook struct{ opt Options }

// NewRulebook makes one.
func NewRulebook(opt Options) *Rulebook { return &Rulebook{opt} }

// Rules gives the rules of a site in force; empty ones of revision 0 where it has none.
func Rules(docs *document.Set, site string) (gate.Revision, error) {
	d := docs.Get(document.Key{Site: site, Kind: document.Gate})
	if d == nil {
		return gate.Revision{Rules: gate.Rules{Gates: []gate.Gate{}}, Changes: []string{}}, nil
	}
	return revision(d)
}

func revision(d *document.Document) (rev gate.Revision, err error) {
	rev = gate.Revision{Revision: d.Revision, Changes: append([]string{}, d.Changes...), MadeBy: d.MadeBy, MadeAt: d.MadeAt}
	rev.Rules, err = document.Read[gate.Rules](d)
	return rev, err
}

// Draft gives the draft of a site's rules; nil for none.
func Draft(docs *document.Set, site string) (*gate.Draft, error) {
	d := docs.Get(draftOf(site))
	if d == nil {
		return nil, nil
	}
	rules, err := document.Read[gate.Rules](d)
	return &gate.Draft{Rules: rules, MadeBy: d.MadeBy, MadeAt: d.MadeAt}, err
}

func draftOf(site string) document.Key { return document.Key{Site: site, Kind: document.GateDraft} }

// Kind is how rules are kept.
func (b *Rulebook) Kind() documents.Kind {
	return documents.Kind{Word: "gates", None: gate.ErrNoRevision, Changed: gate.ErrChanged, Restore: func(ctx context.Context, key document.Key, body json.RawMessage, by string) error {
		var rules gate.Rules
		err := json.Unmarshal(body, &rules)
		if err == nil {
			_, err = b.put(ctx, key.Site, rules, nil, by)
		}
		return err
	}}
}

// State gives the rules of a site, in force and as a draft, what is wrong with them, and what they did in the
// last 24 hours.
func (b *Rulebook) State(ctx context.Context, site *sites.Site) (api.GateState, error) {
	state := api.GateState{
		Site: site.Host, Hits: []api.GateHits{}, HitsOf: gate.AskedRequest, Groups: b.opt.Known.Groups.Names(), Areas: append([]string{}, b.opt.Names.Areas...),
		Labels: append([]string{}, b.opt.Names.Labels...), Languages: append([]string{}, site.Local.Languages.Offered()...), Alarms: []gate.Alarm{},
	}
	for _, k := range addr.Kinds() {
		state.Kinds = append(state.Kinds, k.String())
	}
	var err error
	docs := b.opt.Documents.Set()
	if state.Live, err = Rules(docs, site.Host); err != nil {
		return state, err
	}
	if state.Draft, err = Draft(docs, site.Host); err != nil {
		return state, err
	}
	rules := state.Live.Rules
	if state.Draft != nil {
		rules = state.Draft.Rules
	}
	_, state.Findings = gate.Check(rules, b.opt.Known, true, b.opt.Now())
	if err := b.opt.Counter.Flush(ctx); err != nil {
		return state, err
	}
	now := b.opt.Now()
	counts, err := b.opt.Store.Counts(ctx, site.Host, now.Add(-24*time.Hour), now)
	if err != nil {
		return state, err
	}
	state.HitsOf, state.Hits = hits(counts)
	state.Alarms, err = b.Alarms(ctx, site.Host)
	return state, err
}

// hits adds up what rules did. Where a proxy or an application asked, the visits that were reported are
// mostly the same people again.
func hits(counts map[gate.CountKey]int64) (of string, list []api.GateHits) {
	of, list = gate.AskedVisit, []api.GateHits{}
	for k := range counts {
		if k.Asked == gate.AskedRequest {
			of = gate.AskedRequest
		}
	}
	sums := map[api.GateHits]int64{}
	for k, n := range counts {
		if k.Asked == of {
			sums[api.GateHits{Gate: k.Gate, Rule: k.Rule, By: k.By, Missing: k.Missing, Outcome: k.Outcome}] += n
		}
	}
	for h, n := range sums {
		h.Requests = n
		list = append(list, h)
	}
	slices.SortFunc(list, func(a, b api.GateHits) int { return compareHits(&a, &b) })
	return of, list
}

func compareHits(a, b *api.GateHits) int {
	key := func(h *api.GateHits) string {
		return fmt.Sprintf("%s\x00%06d\x00%s\x00%s\x00%s", h.Gate, h.Rule, h.By, h.Missing, h.Outcome)
	}
	switch x, y := key(a), key(b); {
	case x < y:
		return -1
	case x > y:
		return 1
	}
	return 0
}

// Check says what is wrong with rules, and gives them in their one form.
func (b *Rulebook) Check(req api.GateCheckRequest) api.GateChecked {
	clean, findings := gate.Check(req.Rules, b.opt.Known, req.RefuseEverybody, b.opt.Now())
	_, bad := gate.Wrong(findings)
	checked := api.GateChecked{Usable: !bad, Findings: findings}
	if checked.Usable {
		checked.Rules = &clean
	}
	return checked
}

// Save puts rules in force, as the next revision. The error is of the first field that is wrong, or wraps
// [gate.ErrChanged].
func (b *Rulebook) Save(ctx context.Context, site *sites.Site, req api.GateSave, by string) (gate.Revision, error) {
	clean, findings := gate.Check(req.Rules, b.opt.Known, req.RefuseEverybody, b.opt.Now())
	if f, bad := gate.Wrong(findings); bad {
		return gate.Revision{}, field(f)
	}
	before, err := Rules(b.opt.Documents.Set(), site.Host)
	if err != nil {
		return before, err
	}
	return b.save(ctx, site.Host, clean, gate.Changes(before.Rules, clean), &req.Revision, by)
}

func (b *Rulebook) save(ctx context.Context, site string, rules gate.Rules, changes []string, on *int64, by string) (gate.Revision, error) {
	d, err := b.opt.Documents.Save(ctx, document.Key{Site: site, Kind: document.Gate}, rules, documents.Saving{On: on, By: by, Changes: changes})
	if err != nil {
		return gate.Revision{}, err
	}
	return revision(&d)
}

// put saves rules that were in force before, where nothing is wrong with them by now. more is said of the change.
func (b *Rulebook) put(ctx context.Context, site string, rules gate.Rules, more []string, by string) (gate.Revision, error) {
	if _, findings := gate.Check(rules, b.opt.Known, true, b.opt.Now()); len(findings) > 0 {
		if f, bad := gate.Wrong(findings); bad {
			return gate.Revision{}, field(f)
		}
	}
	before, err := Rules(b.opt.Documents.Set(), site)
	if err != nil {
		return before, err
	}
	return b.save(ctx, site, rules, append(more, gate.Changes(before.Rules, rules)...), &before.Revision, by)
}

// Return puts an older revision in force again, as a new one.
func (b *Rulebook) Return(ctx context.Context, site *sites.Site, number int64, by string) (gate.Revision, error) {
	older, err := b.opt.Documents.Revision(ctx, document.Key{Site: site.Host, Kind: document.Gate}, number)
	if err != nil {
		return gate.Revision{}, err
	}
	rules, err := document.Read[gate.Rules](&older)
	if err != nil {
		return gate.Revision{}, err
	}
	return b.put(ctx, site.Host, rules, []string{fmt.Sprintf("returned to revision %d", number)}, by)
}

// SaveDraft keeps rules that are worked on; they may have errors, but words that the contract has.
func (b *Rulebook) SaveDraft(ctx context.Context, site *sites.Site, rules gate.Rules, by string) error {
	if len(rules.Gates) > gate.MaxGates || slices.ContainsFunc(rules.Gates, func(g gate.Gate) bool { return len(g.Rules) > gate.MaxRules }) {
		return invalid.Field("gates", fmt.Sprintf("more than %d gates, or %d rules of one", gate.MaxGates, gate.MaxRules), "Put rules of one path into one gate.")
	}
	if text, err := json.Marshal(rules); err != nil || bytes.Contains(text, []byte(`\u0000`)) {
		return invalid.Field("gates", "a text in it holds a NUL", "Write plain text.")
	}
	_, findings := gate.Check(rules, b.opt.Known, true, b.opt.Now())
	for _, f := range findings {
		if f.Severity == gate.Error && oneWord.MatchString("."+f.Field) {
			return field(f)
		}
	}
	_, err := b.opt.Documents.Save(ctx, draftOf(site.Host), rules, documents.Saving{By: by})
	return err
}

// oneWord are the fields that have one of a few words, of which the contract has no others: not in a draft either.
var oneWord = regexp.MustCompile(`\.(mode|list|do|basis|status|missing(\..*)?)$`)

// DropDraft discards the draft, if there is one.
func (b *Rulebook) DropDraft(ctx context.Context, site *sites.Site, by string) error {
	err := b.opt.Documents.Drop(ctx, draftOf(site.Host), by)
	if errors.Is(err, document.ErrNone) {
		err = nil
	}
	return err
}

// History lists revisions, the newest first.
func (b *Rulebook) History(ctx context.Context, site *sites.Site, before int64, limit int) (api.GateHistory, error) {
	answer := api.GateHistory{Revisions: []gate.Revision{}}
	list, err := b.opt.Documents.History(ctx, document.Key{Site: site.Host, Kind: document.Gate}, before, limit)
	if errors.Is(err, gate.ErrNoRevision) { // it never had rules
		return answer, nil
	}
	for i := range list {
		rev, wrong := revision(&list[i])
		if err = errors.Join(err, wrong); wrong == nil {
			answer.Revisions = append(answer.Revisions, rev)
		}
	}
	return answer, err
}
