package report

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
)

// timelineMost bounds the units of a timeline.
const timelineMost = 5000

// Timeline counts visits by units of time in a zone.
func (r *Reports) Timeline(ctx context.Context, f visit.Filter, unit string, zone *time.Location) (Timeline, error) {
	if Units[unit] == 0 {
		return Timeline{}, invalid.Field("unit", fmt.Sprintf("%.20q is not a unit", unit), "Give quarter, hour, day, week or month.")
	}
	if f.From.IsZero() {
		return Timeline{}, invalid.Field("from", "it is missing", "Give the time that the timeline begins at.")
	}
	to := f.To
	if to.IsZero() {
		to = r.now()
	}
	if n := to.Sub(f.From) / Units[unit]; n > timelineMost {
		return Timeline{}, invalid.Field("unit", fmt.Sprintf("that would be %d units", n), fmt.Sprintf("At most %d are given; take a longer unit or a shorter time.", timelineMost))
	}
	rows, t, err := r.counts.Timeline(ctx, f, UnitsBetween(unit, f.From, to, zone, timelineMost+1), r.now())
	if err != nil {
		return Timeline{}, err
	}
	said, err := r.answered(ctx, f, "timeline", t, sum(rows))
	return Timeline{Answered: said, Unit: unit, Zone: zone.String(), Rows: rows}, err
}

func sum(rows []visit.TimeCount) (n int64) {
	for _, row := range rows {
		n += row.Visits
	}
	return n
}

// Hours counts visits by the hour of the week where the visitors are.
func (r *Reports) Hours(ctx context.Context, f visit.Filter) (Hours, error) {
	t, err := r.counts.Tally(ctx, f, visit.ByHour, r.now())
	if err != nil {
		return Hours{}, err
	}
	rows := make([]HourRow, 7*24)
	for i := range rows {
		rows[i] = HourRow{Weekday: i/24 + 1, Hour: i % 24}
	}
	for _, k := range t.Keys {
		if i, err := strconv.Atoi(k.Key); err == nil && i >= 0 && i < len(rows) {
			rows[i].Visits = k.Visits
		}
	}
	said, err := r.answered(ctx, f, "hours", t, t.Sum())
	return Hours{Answered: said, Rows: rows}, err
}

// Visitors gives the distinct visitors of each day of UTC, of which those that from or to lie
// within are counted whole.
func (r *Reports) Visitors(ctx context.Context, f visit.Filter) (Visitors, error) {
	if !f.OnlyTimes() {
		return Visitors{}, invalid.Field("site", "visitors are told apart for a site and day only", "Leave all filters but site, from and to out.")
	}
	// Days are counted whole.
	whole := f
	if whole.From = f.From.UTC().Truncate(24 * time.Hour); f.From.IsZero() {
		whole.From = f.From
	}
	if whole.To = f.To.UTC().Truncate(24 * time.Hour); !whole.To.Equal(f.To) {
		whole.To = whole.To.Add(24 * time.Hour)
	}
	rows, err := r.counts.Visitors(ctx, whole)
	if err != nil {
		return Visitors{}, err
	}
	said, err := r.answered(ctx, whole, "visitors", visit.Tally{Counted: true}, sum(rows))
	answer := Visitors{Answered: said, Rows: append([]visit.TimeCount{}, rows...)}
	if !f.From.IsZero() {
		answer.From = &whole.From
	}
	if !f.To.IsZero() {
		answer.To = &whole.To
	}
	return answer, err
}

// Units are the lengths of time that a timeline counts by, as long as they mostly are.
var Units = map[string]time.Duration{
	"quarter": slot, "hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour, "month": 30 * 24 * time.Hour,
}

// slot is what counts are kept by. All offsets from UTC that are in use are whole slots.
const slot = 15 * time.Minute

// UnitsBetween gives when the units began that hold the time from one moment to another, by
// the calendar and clock of a zone, at most so many: each lasts until the next. An hour
// begins where the clock shows a whole hour, so that one in which the clock is set by half
// an hour is longer or shorter; weeks begin on Monday (ISO 8601). A day whose midnight is
// skipped begins with its first moment, and of two midnights at the first.
func UnitsBetween(unit string, from, to time.Time, zone *time.Location, most int) []time.Time {
	starts := []time.Time{}
	at := begun(unit, from.In(zone))
	for at.Before(to) && len(starts) < most {
		starts = append(starts, at)
		at = next(unit, at)
	}
	return starts
}

// begun gives when the unit that t is in began.
func begun(unit string, t time.Time) time.Time {
	at := t.Truncate(slot)
	switch unit {
	case "quarter":
		return at
	case "hour":
		for at.Minute() != 0 {
			at = at.Add(-slot)
		}
		return at
	}
	year, month, day := t.Date()
	switch unit {
	case "week":
		day -= (int(t.Weekday()) + 6) % 7
	case "month":
		day = 1
	}
	return dayBegins(year, month, day, t.Location())
}

func next(unit string, t time.Time) time.Time {
	year, month, day := t.Date()
	switch unit {
	case "day":
		return dayBegins(year, month, day+1, t.Location())
	case "week":
		return dayBegins(year, month, day+7-(int(t.Weekday())+6)%7, t.Location())
	case "month":
		return dayBegins(year, month+1, 1, t.Location())
	}
	at := t.Add(slot)
	for unit == "hour" && at.Minute() != 0 {
		at = at.Add(slot)
	}
	return at
}

// dayBegins gives the first moment of a day, or of the next where a zone has none.
func dayBegins(year int, month time.Month, day int, zone *time.Location) time.Time {
	number := func(t time.Time) int { // in order of days
		y, m, d := t.Date()
		return (y*12+int(m))*31 + d
	}
	wanted := number(time.Date(year, month, day, 12, 0, 0, 0, time.UTC))
	at := time.Date(year, month, day, 0, 0, 0, 0, zone)
	for number(at) < wanted {
		at = at.Add(slot)
	}
	for number(at.Add(-slot)) >= wanted {
		at = at.Add(-slot)
	}
	return at
}
