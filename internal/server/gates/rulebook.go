package gates

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"time"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/server/sites"
)

// ruleStore keeps rules and what was decided by them.
type ruleStore interface {
	Revision(ctx context.Context, site string, number int64) (gate.Revision, error)
	History(ctx context.Context, site string, before int64, limit int) ([]gate.Revision, error)
	Save(ctx context.Context, site string, rev gate.Revision) error
	Draft(ctx context.Context, site string) (*gate.Draft, error)
	SaveDraft(ctx context.Context, site string, d gate.Draft) error
	DropDraft(ctx context.Context, site string) error
	Counts(ctx context.Context, site string, from, to time.Time) (map[gate.CountKey]int64, error)
	Refused(ctx context.Context, site, reference string) ([]gate.Refused, error)
	EachPast(ctx context.Context, site string, from, to time.Time, most int, do func(*gate.Past)) (read int, err error)
}

// Options says what a rulebook is made of. All of it is required.
type Options struct {
	Store   ruleStore
	Counter *Counter
	Known   gate.Known
	Names   Names
	// Apply puts the rules that are stored into use.
	Apply func(context.Context) error
	Now   func() time.Time
}

// Names are what rules may name, to choose from.
type Names struct{ Areas, Labels []string }

// A Rulebook is where the rules of sites are read and changed. It is safe for concurrent use.
type Rulebook struct{ opt Options }

// NewRulebook makes one.
func NewRulebook(opt Options) *Rulebook { return &Rulebook{opt} }

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
	if state.Live, err = b.opt.Store.Revision(ctx, site.Host, 0); err != nil {
		return state, err
	}
	if state.Draft, err = b.opt.Store.Draft(ctx, site.Host); err != nil {
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
	before, err := b.opt.Store.Revision(ctx, site.Host, 0)
	if err != nil {
		return before, err
	}
	if before.Revision != req.Revision {
		return before, gate.ErrChanged
	}
	return b.put(ctx, site, before, clean, gate.Changes(before.Rules, clean), by)
}

func (b *Rulebook) put(ctx context.Context, site *sites.Site, before gate.Revision, rules gate.Rules, changes []string, by string) (gate.Revision, error) {
	rev := gate.Revision{Revision: before.Revision + 1, Rules: rules, Changes: changes, MadeBy: by, MadeAt: b.opt.Now().UTC().Truncate(time.Second)}
	if err := b.opt.Store.Save(ctx, site.Host, rev); err != nil {
		return rev, err
	}
	return rev, b.opt.Apply(ctx)
}

// Return puts an older revision in force again, as a new one.
func (b *Rulebook) Return(ctx context.Context, site *sites.Site, number int64, by string) (gate.Revision, error) {
	if number < 1 {
		return gate.Revision{}, gate.ErrNoRevision
	}
	older, err := b.opt.Store.Revision(ctx, site.Host, number)
	if err != nil {
		return older, err
	}
	if _, findings := gate.Check(older.Rules, b.opt.Known, true, b.opt.Now()); len(findings) > 0 {
		if f, bad := gate.Wrong(findings); bad {
			return older, field(f)
		}
	}
	before, err := b.opt.Store.Revision(ctx, site.Host, 0)
	if err != nil {
		return before, err
	}
	return b.put(ctx, site, before, older.Rules, append([]string{fmt.Sprintf("returned to revision %d", number)}, gate.Changes(before.Rules, older.Rules)...), by)
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
	return b.opt.Store.SaveDraft(ctx, site.Host, gate.Draft{Rules: rules, MadeBy: by, MadeAt: b.opt.Now().UTC().Truncate(time.Second)})
}

// oneWord are the fields that have one of a few words, of which the contract has no others: not in a draft either.
var oneWord = regexp.MustCompile(`\.(mode|list|do|basis|status|missing(\..*)?)$`)

// DropDraft discards the draft.
func (b *Rulebook) DropDraft(ctx context.Context, site *sites.Site) error {
	return b.opt.Store.DropDraft(ctx, site.Host)
}

// History lists revisions, the newest first.
func (b *Rulebook) History(ctx context.Context, site *sites.Site, before int64, limit int) (api.GateHistory, error) {
	list, err := b.opt.Store.History(ctx, site.Host, before, limit)
	return api.GateHistory{Revisions: append([]gate.Revision{}, list...)}, err
}
