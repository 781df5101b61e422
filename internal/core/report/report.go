// Package report answers questions about many visits: by country, town, network and so on,
// with shares and what there was before; by time, by the hour of the week, by cells of the
// map, and by distance. What visits are counted by is the store's affair.
package report

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
)

// counts are what reports are made of. Marked visits are left out of all but LeftOut and Count,
// unless the filter asks for a mark.
type counts interface {
	Tally(ctx context.Context, f visit.Filter, by visit.By, now time.Time) (visit.Tally, error)
	Timeline(ctx context.Context, f visit.Filter, starts []time.Time, now time.Time) ([]visit.TimeCount, visit.Tally, error)
	Visitors(ctx context.Context, f visit.Filter) ([]visit.TimeCount, error)
	FirstSeen(ctx context.Context, site string, by visit.By) (map[string]time.Time, error)
	LeftOut(ctx context.Context, f visit.Filter, now time.Time) (map[string]int64, error)
	Count(ctx context.Context, f visit.Filter, now time.Time) (visit.Count, error)
	Kept(ctx context.Context) (visit.Kept, error)
}

// Reports makes reports. It is safe for concurrent use; its errors are those of the counts,
// and [invalid.FieldError].
type Reports struct {
	counts counts
	now    func() time.Time
}

// New makes reports of counts; what has no end ends now.
func New(c counts, now func() time.Time) *Reports { return &Reports{c, now} }

// Bounds of the rows of a report.
const (
	RowsUsual = 1000
	RowsMost  = 50_000
)

// A Question is what a report is asked for.
type Question struct {
	visit.Filter
	Rows    int  // at most; 0 for [RowsUsual]
	Compare bool // with the time before, as long as this one
	OnlyNew bool // countries that were not seen before
}

// Names lists what there are reports by.
func Names() []string { return slices.Sorted(maps.Keys(kinds)) }

// By counts visits by something that they have in common, one of [Names], the most first.
func (r *Reports) By(ctx context.Context, name string, q Question) (Report, error) {
	how, ok := kinds[name]
	if !ok {
		return Report{}, invalid.Field("by", fmt.Sprintf("there is no report by %.40q", name), "There are "+strings.Join(Names(), ", ")+".")
	}
	if q.OnlyNew && how.by != visit.ByCountry {
		return Report{}, invalid.Field("new", "it picks new countries", "Give true, with the report of countries.")
	}
	if q.Compare && q.From.IsZero() {
		return Report{}, invalid.Field("compare", "the time before is not known without from", "Give from, and to where it is not now.")
	}
	count, err := r.counts.Count(ctx, q.Filter, r.now())
	if err != nil {
		return Report{}, err
	}
	t, err := r.counts.Tally(ctx, q.Filter, how.by, r.now())
	if err != nil {
		return Report{}, err
	}
	total := t.Sum()
	if how.by == visit.ByLabel || how.by == visit.ByLink { // of which a visit may have none, or several
		all, err := r.counts.Tally(ctx, q.Filter, visit.ByAll, r.now())
		if err != nil {
			return Report{}, err
		}
		total = all.Sum()
	}
	rows, without := how.rows(t)
	if q.Compare {
		if err := r.compare(ctx, q.Filter, how, rows); err != nil {
			return Report{}, err
		}
	}
	if how.by == visit.ByCountry {
		if err := r.firstSeen(ctx, q.Site, rows); err != nil {
			return Report{}, err
		}
	}
	said, err := r.answered(ctx, q.Filter, name, t, total)
	if err != nil {
		return Report{}, err
	}
	kept, err := r.counts.Kept(ctx)
	if err != nil {
		return Report{}, err
	}
	answer := Report{Answered: said, Count: count, Others: t.Others, Without: without, NoPoint: NoPoint{Placeholders: map[string]int64{}}, RowsSince: kept.Since}
	switch {
	case how.by == visit.ByPlace:
		if answer.NoPoint, err = r.noPoint(ctx, q.Filter, t); err != nil {
			return Report{}, err
		}
	case how.by == visit.ByCountry && slices.ContainsFunc(t.Keys, func(k visit.KeyCount) bool { return k.Key == "" }):
		places, err := r.counts.Tally(ctx, q.Filter, visit.ByPlace, r.now())
		if err != nil {
			return Report{}, err
		}
		if answer.NoPoint, err = r.noPoint(ctx, q.Filter, places); err != nil {
			return Report{}, err
		}
	}
	if how.by == visit.ByCountry || how.by == visit.ByPlace {
		if answer.ByRegistration, err = r.byRegistration(ctx, q.Filter); err != nil {
			return Report{}, err
		}
	}
	answer.Rows, answer.Rest = cut(rows, q, total)
	return answer, nil
}

// answered says what figures come from, and what is not in them.
func (r *Reports) answered(ctx context.Context, f visit.Filter, by string, t visit.Tally, total int64) (Answered, error) {
	basis := "rows"
	if t.Counted {
		basis = "counts"
	}
	left, err := r.counts.LeftOut(ctx, f, r.now())
	return Answered{Site: f.Site, By: by, Total: total, Basis: basis, Scanned: t.Scanned, Partial: t.Partial, LeftOut: left}, err
}

// compare puts beside each row how many visits there were in the time before.
func (r *Reports) compare(ctx context.Context, f visit.Filter, how kind, rows []*Row) error {
	to := f.To
	if to.IsZero() {
		to = r.now()
	}
	f.To, f.From = f.From, f.From.Add(-to.Sub(f.From))
	t, err := r.counts.Tally(ctx, f, how.by, r.now())
	if err != nil {
		return err
	}
	before := map[string]int64{}
	for _, k := range t.Keys {
		if line, ok := how.line(k); ok {
			before[line.Key] += k.Visits
		}
	}
	for _, row := range rows {
		n := before[row.Key]
		row.Before = &n
	}
	return nil
}

// firstSeen says of countries on which day, in UTC, the first visit came.
func (r *Reports) firstSeen(ctx context.Context, site string, rows []*Row) error {
	seen, err := r.counts.FirstSeen(ctx, site, visit.ByCountry)
	for _, row := range rows {
		if at, ok := seen[row.Key]; ok {
			day := at.Format(time.DateOnly)
			row.FirstSeen = &day
		}
	}
	return err
}

// cut gives the rows that are asked for, and how many visits the others have.
func cut(rows []*Row, q Question, total int64) (list []Row, rest int64) {
	list = []Row{}
	for _, row := range rows {
		row.Share = float64(row.Visits) / float64(max(1, total))
		if q.OnlyNew && (row.FirstSeen == nil || *row.FirstSeen < q.From.UTC().Format(time.DateOnly)) {
			continue
		}
		list = append(list, *row)
	}
	slices.SortStableFunc(list, func(a, b Row) int { return cmp.Compare(b.Visits, a.Visits) })
	most := min(cmp.Or(q.Rows, RowsUsual), len(list))
	for _, row := range list[most:] {
		rest += row.Visits
	}
	return list[:most], rest
}
