package links

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/link"
	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
)

// counts are what is known of many clicks; marked ones are in none but LeftOut.
type counts interface {
	Tally(ctx context.Context, f visit.Filter, by visit.By, now time.Time) (visit.Tally, error)
	Timeline(ctx context.Context, f visit.Filter, starts []time.Time, now time.Time) ([]visit.TimeCount, visit.Tally, error)
	Visitors(ctx context.Context, f visit.Filter) ([]visit.TimeCount, error)
	LeftOut(ctx context.Context, f visit.Filter, now time.Time) (map[string]int64, error)
	Kept(ctx context.Context) (visit.Kept, error)
}

// daysMost bounds the days of a report, and rowsMost its rows by one thing.
const (
	daysMost = 400
	rowsMost = 1000
)

// A ReportQuestion is what a report is about. A zero From is so many Days back, a zero To now.
type ReportQuestion struct {
	Code, Compare string
	Days          int
	From, To      time.Time
	Zone          *time.Location // nil for UTC
}

// Report says who followed a link, and what is left out of that.
func (l *Links) Report(ctx context.Context, q ReportQuestion, may func(site string) error) (link.Report, error) {
	var out link.Report
	of, err := l.Get(ctx, q.Code)
	if err == nil {
		err = may(of.Site)
	}
	if err != nil {
		return out, err
	}
	if q.Zone == nil {
		q.Zone = time.UTC
	}
	now := l.Now().UTC()
	if out.To = q.To.UTC(); q.To.IsZero() {
		out.To = now
	}
	if out.From = q.From.UTC(); q.From.IsZero() {
		year, month, day := out.To.In(q.Zone).Date()
		out.From = time.Date(year, month, day+1-q.Days, 0, 0, 0, 0, q.Zone).UTC()
	}
	switch {
	case !out.From.Before(out.To):
		return out, invalid.Field("from", "it is not before the end", "Give an earlier time.")
	case out.To.Sub(out.From) > daysMost*24*time.Hour:
		return out, invalid.Field("from", fmt.Sprintf("that would be more than %d days", daysMost), "Take a shorter time.")
	}
	out.Zone = q.Zone.String()
	if out.Of, err = l.figures(ctx, of, &out, q.Zone, now); err != nil {
		return out, err
	}
	if q.Compare != "" {
		other, err := l.Get(ctx, q.Compare)
		if err == nil && other.Site != of.Site {
			err = invalid.Field("compare", "that link is of another site", "Give a link of the same site.")
		}
		if err != nil {
			return out, err
		}
		compared, err := l.figures(ctx, other, &out, q.Zone, now)
		if err != nil {
			return out, err
		}
		out.Compared = &compared
	}
	kept, err := l.Counts.Kept(ctx)
	out.RowsSince = kept.Since
	return out, err
}

func (l *Links) figures(ctx context.Context, of link.Link, when *link.Report, zone *time.Location, now time.Time) (link.Figures, error) {
	out := link.Figures{Link: of, Places: []link.PlaceCount{}}
	f := visit.Filter{Site: of.Site, Click: of.Code, From: when.From, To: when.To}
	tally := func(by visit.By) (visit.Tally, error) {
		t, err := l.Counts.Tally(ctx, f, by, now)
		out.Partial = out.Partial || t.Partial
		return t, err
	}
	if err := l.days(ctx, &out, f, zone, now); err != nil {
		return out, err
	}
	for _, one := range []struct {
		by   visit.By
		into *[]link.Count
		name func(string) string
	}{
		{visit.ByCountry, &out.Countries, countryName}, {visit.ByReferrer, &out.Referrers, itself}, {visit.ByAgent, &out.Agents, itself}, {visit.ByDestination, &out.Destinations, itself},
	} {
		t, err := tally(one.by)
		if err != nil {
			return out, err
		}
		*one.into = counted(t, one.name)
	}
	places, err := tally(visit.ByPlace)
	if err != nil {
		return out, err
	}
	words, err := tally(visit.ByPlaceholder)
	if err != nil {
		return out, err
	}
	out.Places, out.NoPoint = placed(places, words)
	out.LeftOut, err = l.Counts.LeftOut(ctx, f, now)
	return out, err
}

// days counts clicks by the days of a zone, and visitors where these are days in UTC.
func (l *Links) days(ctx context.Context, out *link.Figures, f visit.Filter, zone *time.Location, now time.Time) error {
	lines, t, err := l.Counts.Timeline(ctx, f, report.UnitsBetween("day", f.From, f.To, zone, daysMost+2), now)
	if err != nil {
		return err
	}
	visitors, err := l.Counts.Visitors(ctx, f)
	if err != nil {
		return err
	}
	by := map[time.Time]int64{}
	for _, v := range visitors {
		by[v.From.UTC()] = v.Visits
		out.Visitors += v.Visits
	}
	out.Partial, out.Days = t.Partial, []link.Day{}
	for _, line := range lines {
		d := link.Day{From: line.From.UTC(), Clicks: line.Visits}
		if zone == time.UTC {
			n := by[d.From]
			d.Visitors = &n
		}
		out.Days = append(out.Days, d)
		out.Clicks += d.Clicks
	}
	return nil
}

// counted gives the rows of a tally, the most first; what is beyond the bound, or not counted by name, stands
// under the key "others".
func counted(t visit.Tally, name func(string) string) []link.Count {
	out, others := []link.Count{}, t.Others
	for i, k := range t.Keys {
		if i >= rowsMost {
			others += k.Visits
			continue
		}
		out = append(out, link.Count{Key: k.Key, Name: name(k.Key), Clicks: k.Visits})
	}
	if others > 0 {
		out = append(out, link.Count{Key: "others", Name: "others", Clicks: others})
	}
	return out
}

// placed gives the places of clicks, where the owner's words stand for those that were not looked up.
func placed(places, words visit.Tally) ([]link.PlaceCount, report.NoPoint) {
	none, out := report.NoPointOf(places), []link.PlaceCount{}
	var named int64
	for _, k := range words.Keys {
		if word := k.Key; word != "" {
			none.Placeholders[word] += k.Visits
			named += k.Visits
		}
	}
	at := map[string]int{}
	for _, k := range places.Keys {
		n := k.Visits
		if without := k.Place.Level == "skipped" || k.Place.Level == "not found"; without && named > 0 { // the words come below
			less := min(named, n)
			if n, named = n-less, named-less; n == 0 {
				continue
			}
		}
		name := placeName(k.Place)
		key := fmt.Sprint(k.Place.Level, text(k.Place.CountryCode), text(k.Place.RegionCode), text(k.Place.City), text(name))
		if i, known := at[key]; known { // of another edition
			out[i].Clicks += n
			continue
		}
		at[key] = len(out)
		out = append(out, link.PlaceCount{Place: k.Place, Name: name, Clicks: n})
	}
	for word, n := range none.Placeholders {
		out = append(out, link.PlaceCount{Place: visit.Place{Level: "skipped"}, Placeholder: &word, Clicks: n})
	}
	sortPlaces(out)
	return out[:min(len(out), rowsMost)], none
}

func countryName(code string) string {
	if code == "" {
		return ""
	}
	if c, ok := almanac.ByCode(code); ok {
		return c.Name
	}
	return code
}

func itself(key string) string { return key }

func placeName(p visit.Place) *string { return report.PlaceName(p) }

func text(s *string) string {
	if s == nil {
		return "\x00"
	}
	return *s
}

func sortPlaces(list []link.PlaceCount) {
	slices.SortStableFunc(list, func(a, b link.PlaceCount) int {
		return cmp.Or(cmp.Compare(b.Clicks, a.Clicks), cmp.Compare(text(a.Placeholder), text(b.Placeholder)), cmp.Compare(text(a.Name), text(b.Name)))
	})
}
