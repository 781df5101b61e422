package report_test

import (
	"context"
	"errors"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/geo"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
)

var now = time.Date(2026, 11, 14, 12, 0, 0, 0, time.UTC)

// counted are counts by hand: of now, and of the time before.
type counted struct {
	now, before map[visit.By]visit.Tally
	seen        map[string]time.Time
	asked       []visit.Filter
	err         error
}

func (c *counted) Tally(_ context.Context, f visit.Filter, by visit.By, _ time.Time) (visit.Tally, error) {
	c.asked = append(c.asked, f)
	if !f.To.IsZero() && f.To.Before(now) {
		return c.before[by], c.err
	}
	return c.now[by], c.err
}

func (c *counted) Timeline(_ context.Context, _ visit.Filter, starts []time.Time, _ time.Time) (rows []visit.TimeCount, t visit.Tally, err error) {
	for i, at := range starts {
		rows = append(rows, visit.TimeCount{From: at, Visits: int64(i)})
	}
	return rows, visit.Tally{}, c.err
}

func (c *counted) Visitors(context.Context, visit.Filter) ([]visit.TimeCount, error) {
	return []visit.TimeCount{{From: now, Visits: 5}, {From: now, Visits: 2}}, c.err
}

func (c *counted) FirstSeen(context.Context, string, visit.By) (map[string]time.Time, error) {
	return c.seen, c.err
}

func (c *counted) LeftOut(context.Context, visit.Filter, time.Time) (map[string]int64, error) {
	return map[string]int64{"bot": 4}, c.err
}

func (c *counted) Count(context.Context, visit.Filter, time.Time) (visit.Count, error) {
	return visit.Count{Matching: 9, All: 10}, c.err
}

func (c *counted) Kept(context.Context) (visit.Kept, error) { return visit.Kept{Since: &now}, c.err }

func keys(of ...any) (t visit.Tally) {
	for i := 0; i < len(of); i += 2 {
		t.Keys = append(t.Keys, visit.KeyCount{Key: of[i].(string), Visits: int64(of[i+1].(int))})
	}
	return t
}

func ptr[T any](v T) *T { return &v }

func place(level, country, region, city string, lat, lon float64, visits int64) visit.KeyCount {
	p := visit.Place{Level: level}
	for _, f := range []struct {
		to   **string
		text string
	}{{&p.CountryCode, country}, {&p.RegionCode, region}, {&p.City, city}} {
		if f.text != "" {
			*f.to = ptr(f.text)
		}
	}
	if level != "skipped" && level != "none" && level != "not found" {
		p.Latitude, p.Longitude, p.RadiusKm, p.TimeZone = ptr(lat), ptr(lon), ptr(25.0), ptr("Europe/Lisbon")
	}
	return visit.KeyCount{Place: p, Visits: visits}
}

func TestCountriesWithTheTimeBefore(t *testing.T) {
	c := &counted{
		now:    map[visit.By]visit.Tally{visit.ByCountry: keys("PT", 6, "NO", 3, "", 1)},
		before: map[visit.By]visit.Tally{visit.ByCountry: keys("PT", 2, "ES", 7)},
		seen:   map[string]time.Time{"PT": now.AddDate(0, -1, 0), "NO": now.Add(-time.Hour)},
	}
	from := now.Add(-24 * time.Hour)
	r, err := report.New(c, func() time.Time { return now }).By(t.Context(), "countries", report.Question{Filter: visit.Filter{Site: "a", From: from}, Rows: 2, Compare: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"PT", "NO"}, []string{r.Rows[0].Key, r.Rows[1].Key})
	assert.Equal(t, []any{int64(10), 0.6, int64(2), "Portugal", "2026-10-14"}, []any{r.Total, r.Rows[0].Share, *r.Rows[0].Before, *r.Rows[0].Name, *r.Rows[0].FirstSeen})
	assert.EqualValues(t, 0, *r.Rows[1].Before)
	assert.EqualValues(t, 1, r.Rest, "of the row that was cut off")
	assert.Equal(t, map[string]int64{"bot": 4}, map[string]int64(r.LeftOut))
	assert.Equal(t, visit.Filter{Site: "a", From: from.Add(-24 * time.Hour), To: from}, c.asked[1], "as long, and just before")

	fresh, err := report.New(c, func() time.Time { return now }).By(t.Context(), "countries", report.Question{Filter: visit.Filter{Site: "a", From: from}, OnlyNew: true})
	require.NoError(t, err)
	require.Len(t, fresh.Rows, 1)
	assert.Equal(t, "NO", fresh.Rows[0].Key)
}

func TestRowsOfEveryKind(t *testing.T) {
	c := &counted{now: map[visit.By]visit.Tally{
		visit.ByPlace: {Keys: []visit.KeyCount{
			place("city", "PT", "PT-11", "Lisbon", 38.72, -9.14, 4), place("region", "PT", "PT-11", "", 38.8, -9.1, 2), place("country", "NO", "", "", 60, 9, 1),
			place("none", "", "", "", 0, 0, 3), place("not found", "", "", "", 0, 0, 4), place("skipped", "", "", "", 0, 0, 5),
		}},
		visit.ByNetwork: keys("64500 Harbour Net (invented)", 2, " Lake", 1, "", 1), visit.ByPath: {Keys: keys("/programme", 2, "", 1).Keys, Others: 7, Counted: true},
		visit.ByLabel: keys("office", 2), visit.ByBasis: keys("registration", 3, "", 2), visit.ByLink: keys("poster", 1), visit.ByAll: keys("", 20), visit.ByReferrer: keys("rowing-news.example", 1), visit.ByLanguage: keys("pt", 1),
	}}
	reports := report.New(c, func() time.Time { return now })
	for name, want := range map[string]struct {
		rows           []string
		total, without int64
		filter         map[string]string
	}{
		"regions":   {[]string{"PT-11"}, 19, 13, map[string]string{"region_code": "PT-11"}},
		"towns":     {[]string{"PT/PT-11/Lisbon"}, 19, 15, map[string]string{"city": "Lisbon", "country_code": "PT", "region_code": "PT-11"}},
		"zones":     {[]string{"Europe/Lisbon"}, 19, 12, map[string]string{"time_zone": "Europe/Lisbon"}},
		"places":    {[]string{"city/PT/PT-11/Lisbon/38.72/-9.14", "region/PT/PT-11//38.8/-9.1", "country/NO///60/9"}, 19, 12, map[string]string{"city": "Lisbon", "country_code": "PT", "region_code": "PT-11"}},
		"networks":  {[]string{"64500 Harbour Net (invented)", " Lake", ""}, 4, 0, map[string]string{"network": "64500 Harbour Net (invented)"}},
		"bases":     {[]string{"registration", ""}, 5, 0, map[string]string{"basis": "registration"}},
		"paths":     {[]string{"/programme", ""}, 10, 0, map[string]string{"path": "/programme"}},
		"referrers": {[]string{"rowing-news.example"}, 1, 0, map[string]string{"referrer": "rowing-news.example"}},
		"languages": {[]string{"pt"}, 1, 0, map[string]string{"language": "pt"}},
		"labels":    {[]string{"office"}, 20, 0, map[string]string{"label": "office"}},
		"links":     {[]string{"poster"}, 20, 0, map[string]string{"link": "poster"}},
	} {
		r, err := reports.By(t.Context(), name, report.Question{Filter: visit.Filter{Site: "a"}})
		require.NoError(t, err, name)
		var got []string
		for _, row := range r.Rows {
			got = append(got, row.Key)
		}
		assert.Equal(t, want.rows, got, name)
		assert.Equal(t, []int64{want.total, want.without}, []int64{r.Total, r.Without}, name)
		assert.Equal(t, want.filter, r.Rows[0].Filter, name)
	}
	towns, err := reports.By(t.Context(), "towns", report.Question{Filter: visit.Filter{Site: "a"}})
	require.NoError(t, err)
	assert.Equal(t, report.NoPoint{Placeholders: map[string]int64{}, Skipped: 5, NotFound: 4, Unknown: 3}, towns.NoPoint)
	network, err := reports.By(t.Context(), "networks", report.Question{Filter: visit.Filter{Site: "a"}})
	require.NoError(t, err)
	assert.Equal(t, "Harbour Net (invented) (AS64500)", *network.Rows[0].Name)
}

// Random points in a grid: every visit is in one cell of its size, or outside the box, and a
// cell's middle is that of its visits.
func TestGridAgainstCounting(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 2))
	for range 200 {
		var list []visit.KeyCount
		for range r.IntN(60) {
			list = append(list, place("city", "PT", "", "Town", r.Float64()*180-90, r.Float64()*360-180, 1+r.Int64N(20)))
		}
		c := &counted{now: map[visit.By]visit.Tally{visit.ByPlace: {Keys: list}}}
		zoom := r.IntN(6)
		west, south := r.Float64()*360-180, r.Float64()*100-90
		box := geo.Box{West: west, South: south, East: r.Float64()*360 - 180, North: south + r.Float64()*(90-south)}
		grid, err := report.New(c, time.Now).Grid(t.Context(), visit.Filter{}, zoom, box)
		require.NoError(t, err)
		var inside, outside, places int64
		lat, weighted := 0.0, 0.0
		for _, k := range list {
			lon := *k.Place.Longitude
			within := *k.Place.Latitude >= box.South && *k.Place.Latitude <= box.North
			if box.West <= box.East {
				within = within && lon >= box.West && lon <= box.East
			} else {
				within = within && !(lon > box.East && lon < box.West)
			}
			if within {
				inside += k.Visits
				places++
				lat += *k.Place.Latitude * float64(k.Visits)
			} else {
				outside += k.Visits
			}
		}
		var sum, spots int64
		for _, cell := range grid.Rows {
			sum += cell.Visits
			spots += int64(cell.Places)
			weighted += cell.Latitude * float64(cell.Visits)
		}
		require.Equal(t, []int64{inside, outside, places}, []int64{sum, grid.Outside, spots})
		require.Equal(t, inside, grid.Total)
		require.InDelta(t, lat, weighted, 1e-6*(1+float64(inside)))
	}
}

func TestDistances(t *testing.T) {
	lisbon := geo.Point{Latitude: 38.72, Longitude: -9.14}
	c := &counted{now: map[visit.By]visit.Tally{visit.ByPlace: {Keys: []visit.KeyCount{
		place("city", "PT", "PT-11", "Lisbon", 38.72, -9.14, 6), place("city", "PT", "PT-13", "Porto", 41.15, -8.61, 3), place("city", "NO", "NO-03", "Oslo", 59.91, 10.75, 1), place("skipped", "", "", "", 0, 0, 2),
	}}}}
	d, err := report.New(c, time.Now).Distances(t.Context(), visit.Filter{}, lisbon)
	require.NoError(t, err)
	assert.Equal(t, []any{0.0, "Oslo"}, []any{*d.MedianKm, *d.Farthest})
	assert.InDelta(t, 2740, *d.FarthestKm, 30)
	visits := map[float64]int64{}
	for _, b := range d.Rows {
		if b.Visits > 0 {
			visits[b.ToKm] = b.Visits
		}
	}
	assert.Equal(t, map[float64]int64{10: 6, 500: 3, 5000: 1}, visits)
	assert.InDelta(t, 0.6, d.Rows[0].Share, 1e-9)
	none, err := report.New(&counted{}, time.Now).Distances(t.Context(), visit.Filter{}, lisbon)
	require.NoError(t, err)
	assert.Nil(t, none.MedianKm)
	assert.Nil(t, none.Farthest)
}

func TestQuestionsThatDoNotFit(t *testing.T) {
	reports := report.New(&counted{}, func() time.Time { return now })
	var field *invalid.FieldError
	for name, ask := range map[string]func() error{
		"by":      func() error { _, err := reports.By(t.Context(), "odd", report.Question{}); return err },
		"new":     func() error { _, err := reports.By(t.Context(), "towns", report.Question{OnlyNew: true}); return err },
		"compare": func() error { _, err := reports.By(t.Context(), "towns", report.Question{Compare: true}); return err },
		"unit": func() error {
			_, err := reports.Timeline(t.Context(), visit.Filter{From: now}, "odd", time.UTC)
			return err
		},
		"from": func() error { _, err := reports.Timeline(t.Context(), visit.Filter{}, "day", time.UTC); return err },
		"site": func() error { _, err := reports.Visitors(t.Context(), visit.Filter{Path: "/"}); return err },
	} {
		err := ask()
		require.ErrorAs(t, err, &field, name)
		assert.Equal(t, name, field.Field)
		assert.NotEmpty(t, field.Hint)
	}
	_, err := reports.Timeline(t.Context(), visit.Filter{From: now.AddDate(-10, 0, 0)}, "hour", time.UTC)
	require.ErrorContains(t, err, "units")
	away := errors.New("away")
	broken := report.New(&counted{err: away}, time.Now)
	for _, name := range report.Names() {
		_, err := broken.By(t.Context(), name, report.Question{})
		require.ErrorIs(t, err, away)
	}
	hours, err := report.New(&counted{now: map[visit.By]visit.Tally{visit.ByHour: keys("0", 2, "167", 1, "999", 5)}}, time.Now).Hours(t.Context(), visit.Filter{})
	require.NoError(t, err)
	assert.Equal(t, []any{168, int64(2), int64(1), 7}, []any{len(hours.Rows), hours.Rows[0].Visits, hours.Rows[167].Visits, hours.Rows[167].Weekday})
	visitors, err := reports.Visitors(t.Context(), visit.Filter{Site: "a"})
	require.NoError(t, err)
	assert.EqualValues(t, 7, visitors.Total)
	assert.Nil(t, visitors.From)
	part := visit.Filter{Site: "a", From: now.Add(-30 * time.Hour), To: now}
	visitors, err = reports.Visitors(t.Context(), part)
	require.NoError(t, err)
	assert.Equal(t, part.From.Truncate(24*time.Hour), *visitors.From, "a day that was begun is counted whole, and the answer says so")
	assert.Equal(t, part.To.Truncate(24*time.Hour).Add(24*time.Hour), *visitors.To)
	part.From, part.To = *visitors.From, *visitors.To
	again, err := reports.Visitors(t.Context(), part)
	require.NoError(t, err)
	assert.Equal(t, visitors, again, "whole days are what they are")
}
