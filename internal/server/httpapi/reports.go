package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// reportRow is a line of a report: something that visits have in common, and
// how many have it. What does not apply is null.
type reportRow struct {
	Key  string  `json:"key"`
	Name *string `json:"name"` // in words; null where there is none
	visit.Place
	Names  placeNames `json:"names"`
	Visits int64      `json:"visits"`
	Share  float64    `json:"share"`
	// Before is how many there were in the time before, as long as this one.
	Before    *int64  `json:"before"`
	FirstSeen *string `json:"first_seen"` // a day in UTC
	// Filter picks these visits in GET /v1/visits.
	Filter map[string]string `json:"filter"`
}

type placeNames struct {
	Country *string `json:"country"`
	Region  *string `json:"region"`
	City    *string `json:"city"`
}

// answered says what a report's figures come from.
type answered struct {
	Site string `json:"site"`
	By   string `json:"by"`
	// Total are the visits that were counted; marked ones are left out.
	Total int64  `json:"total"`
	Basis string `json:"basis"` // "counts" or "rows"
	// Scanned is how many rows were read, and Partial that there were more.
	Scanned int64 `json:"scanned"`
	Partial bool  `json:"partial"`
	// LeftOut are the visits that are not counted, by their first mark.
	LeftOut map[string]int64 `json:"left_out"`
}

// answeredBy says what a report's figures come from, and what is not in them.
func (a *api) answeredBy(ctx context.Context, f visit.Filter, by string, t visit.Tally, total int64) (answered, error) {
	basis := "rows"
	if t.Counted {
		basis = "counts"
	}
	left, err := a.Store.LeftOut(ctx, f, a.Now())
	return answered{Site: f.Site, By: by, Total: total, Basis: basis, Scanned: t.Scanned, Partial: t.Partial, LeftOut: left}, err
}

// report says how a report by something is made: of which counts, and what the
// line of a key is.
type report struct {
	by   visit.By
	line func(visit.KeyCount) (reportRow, bool) // false leaves the key out
}

var reports = map[string]report{
	"countries": {visit.ByCountry, countryLine},
	"regions":   {visit.ByPlace, regionLine},
	"towns":     {visit.ByPlace, townLine},
	"zones":     {visit.ByPlace, zoneLine},
	"places":    {visit.ByPlace, placeLine},
	"networks":  {visit.ByNetwork, networkLine},
	"paths":     {visit.ByPath, plainLine("path")},
	"referrers": {visit.ByReferrer, plainLine("referrer")},
	"languages": {visit.ByLanguage, plainLine("language")},
	"labels":    {visit.ByLabel, plainLine("label")},
	"links":     {visit.ByLink, plainLine("link")},
}

func countryLine(k visit.KeyCount) (reportRow, bool) {
	key := k.Key
	if key == "" {
		return reportRow{Filter: map[string]string{"level": string(atlas.None)}}, true
	}
	r := reportRow{Key: key, Filter: map[string]string{"country_code": key}}
	r.CountryCode = &key
	r.nameCountry()
	r.Name = r.Names.Country
	return r, true
}

func (r *reportRow) nameCountry() {
	if r.CountryCode == nil {
		return
	}
	if country, ok := almanac.ByCode(*r.CountryCode); ok {
		r.Names.Country = &country.Name
	}
	if r.RegionCode != nil {
		if name, ok := almanac.Region(*r.RegionCode); ok {
			r.Names.Region = &name
		}
	}
	if r.City != nil {
		name := gazetteer.NameIn(*r.CountryCode, *r.City, "en")
		r.Names.City = &name
	}
}

func regionLine(k visit.KeyCount) (reportRow, bool) {
	p := k.Place
	if p.RegionCode == nil {
		return reportRow{}, false
	}
	r := reportRow{Key: *p.RegionCode, Place: visit.Place{Level: string(atlas.Region), CountryCode: p.CountryCode, RegionCode: p.RegionCode}}
	r.nameCountry()
	r.Name, r.Filter = r.Names.Region, map[string]string{"region_code": *p.RegionCode}
	return r, true
}

func townLine(k visit.KeyCount) (reportRow, bool) {
	p := k.Place
	if p.City == nil {
		return reportRow{}, false
	}
	r := reportRow{Key: strings.Join([]string{plain.Value(p.CountryCode), plain.Value(p.RegionCode), *p.City}, "/"), Name: p.City, Place: p}
	r.nameCountry()
	r.Filter = map[string]string{"city": *p.City}
	if r.Names.City != nil {
		r.Name = r.Names.City
	}
	r.addCodes()
	return r, true
}

func (r *reportRow) addCodes() {
	if r.CountryCode != nil {
		r.Filter["country_code"] = *r.CountryCode
	}
	if r.RegionCode != nil {
		r.Filter["region_code"] = *r.RegionCode
	}
}

func zoneLine(k visit.KeyCount) (reportRow, bool) {
	p := k.Place
	if p.TimeZone == nil {
		return reportRow{}, false
	}
	return reportRow{Key: *p.TimeZone, Name: p.TimeZone, Place: visit.Place{TimeZone: p.TimeZone}, Filter: map[string]string{"time_zone": *p.TimeZone}}, true
}

// placeLine is a place with a point, of any level.
func placeLine(k visit.KeyCount) (reportRow, bool) {
	p := k.Place
	if p.Latitude == nil || p.Longitude == nil || p.CountryCode == nil {
		return reportRow{}, false
	}
	r := reportRow{Key: strings.Join([]string{p.Level, plain.Value(p.CountryCode), plain.Value(p.RegionCode), plain.Value(p.City), plain.Decimal(*p.Latitude), plain.Decimal(*p.Longitude)}, "/"), Place: p}
	r.nameCountry()
	r.Filter = map[string]string{"level": p.Level}
	r.addCodes()
	for _, name := range []*string{r.Names.City, r.Names.Region, r.Names.Country} {
		if r.Name == nil {
			r.Name = name
		}
	}
	if p.City != nil {
		r.Filter = map[string]string{"city": *p.City}
		r.addCodes()
	}
	return r, true
}

func networkLine(k visit.KeyCount) (reportRow, bool) {
	key := k.Key
	if key == "" {
		return reportRow{Filter: map[string]string{}}, true
	}
	asNumber, operator, _ := strings.Cut(key, " ")
	name := operator
	if asNumber != "" {
		name = strings.TrimSpace(operator + " (AS" + asNumber + ")")
	}
	return reportRow{Key: key, Name: &name, Filter: map[string]string{"network": key}}, true
}

func plainLine(filter string) func(visit.KeyCount) (reportRow, bool) {
	return func(k visit.KeyCount) (reportRow, bool) {
		key := k.Key
		if key == "" {
			return reportRow{Filter: map[string]string{}}, true
		}
		return reportRow{Key: key, Name: &key, Filter: map[string]string{filter: key}}, true
	}
}

const (
	reportRows = 1000   // of a report, unless it is asked for more or fewer
	reportMost = 50_000 // rows
)

func (a *api) getReport(c *gin.Context) {
	name := c.Param("by")
	how, ok := reports[name]
	if !ok {
		a.fail(c, invalidField("by", fmt.Sprintf("there is no report by %.40q", name), "There are "+strings.Join(slices.Sorted(maps.Keys(reports)), ", ")+"."))
		return
	}
	limit, err := intOf(c, "limit", reportRows, 1, reportMost)
	compare, fresh := c.Query("compare"), c.Query("new")
	if err == nil && compare != "" && compare != "before" {
		err = invalidField("compare", fmt.Sprintf("%.20q is nothing to compare with", compare), "Give before, or leave it out.")
	}
	if err == nil && fresh != "" && (fresh != "true" || how.by != visit.ByCountry) {
		err = invalidField("new", "it picks new countries", "Give true, with the report of countries.")
	}
	f, count, ok := a.countedOr(c, err)
	if !ok {
		return
	}
	t, err := a.Store.Tally(c, f, how.by, a.Now())
	if err != nil {
		a.fail(c, err)
		return
	}
	rows, order, without := map[string]*reportRow{}, []string{}, int64(0)
	for _, k := range t.Keys {
		line, ok := how.line(k)
		if !ok {
			without += k.Visits
			continue
		}
		if rows[line.Key] == nil {
			rows[line.Key] = &line
			order = append(order, line.Key)
		}
		rows[line.Key].Visits += k.Visits
	}
	total := t.Sum()
	if how.by == visit.ByLabel || how.by == visit.ByLink { // of which a visit may have none, or several
		all, err := a.Store.Tally(c, f, visit.ByAll, a.Now())
		if err != nil {
			a.fail(c, err)
			return
		}
		total = all.Sum()
	}
	if compare != "" {
		if err := a.compare(c, f, how, rows); err != nil {
			a.fail(c, err)
			return
		}
	}
	if how.by == visit.ByCountry {
		seen, err := a.Store.FirstSeen(c, f.Site, how.by)
		if err != nil {
			a.fail(c, err)
			return
		}
		for key, r := range rows {
			if at, ok := seen[key]; ok {
				day := at.Format(time.DateOnly)
				r.FirstSeen = &day
			}
		}
	}
	list, rest := []reportRow{}, int64(0)
	for _, key := range order {
		r := rows[key]
		r.Share = float64(r.Visits) / float64(max(1, total))
		if fresh != "" && (r.FirstSeen == nil || *r.FirstSeen < f.From.UTC().Format(time.DateOnly)) {
			continue
		}
		list = append(list, *r)
	}
	slices.SortStableFunc(list, func(a, b reportRow) int { return cmp.Compare(b.Visits, a.Visits) })
	for _, r := range list[min(limit, len(list)):] {
		rest += r.Visits
	}
	kept, err := a.Store.Kept(c)
	var said answered
	if err == nil {
		said, err = a.answeredBy(c, f, name, t, total)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	a.answerList(c, "rows", struct {
		answered
		Count     visit.Count      `json:"count"`
		Rows      []reportRow      `json:"rows"`
		Rest      int64            `json:"rest"`    // visits of the rows that were left out
		Others    int64            `json:"others"`  // that are not counted by a key of their own
		Without   int64            `json:"without"` // that have none, such as no town
		NoPoint   visit.Unmappable `json:"no_point"`
		RowsSince *time.Time       `json:"rows_since"` // before it only counts are kept
	}{said, count, list[:min(limit, len(list))], rest, t.Others, without, pointless(how.by, t), kept.Since})
}

// compare puts beside each row how many visits there were in the time before.
func (a *api) compare(c *gin.Context, f visit.Filter, how report, rows map[string]*reportRow) error {
	if f.From.IsZero() {
		return invalidField("compare", "the time before is not known without from", "Give from, and to where it is not now.")
	}
	to := f.To
	if to.IsZero() {
		to = a.Now()
	}
	f.To, f.From = f.From, f.From.Add(-to.Sub(f.From))
	t, err := a.Store.Tally(c, f, how.by, a.Now())
	if err != nil {
		return err
	}
	for _, r := range rows {
		r.Before = new(int64)
	}
	for _, k := range t.Keys {
		if line, ok := how.line(k); ok && rows[line.Key] != nil {
			*rows[line.Key].Before += k.Visits
		}
	}
	return nil
}

// pointless counts the visits that no map can show, where places were counted.
func pointless(by visit.By, t visit.Tally) (p visit.Unmappable) {
	if by != visit.ByPlace {
		return p
	}
	for _, k := range t.Keys {
		switch place := k.Place; {
		case place.Level == "skipped":
			p.Skipped += k.Visits
		case place.Latitude == nil:
			p.Unknown += k.Visits
		}
	}
	return p
}

// countedOr is counted for a request of which something else may be wrong.
func (a *api) countedOr(c *gin.Context, err error) (visit.Filter, visit.Count, bool) {
	if err != nil {
		a.fail(c, err)
		return visit.Filter{}, visit.Count{}, false
	}
	return a.counted(c)
}

// timelineMost bounds the units of a timeline.
const timelineMost = 5000

func (a *api) getTimeline(c *gin.Context) {
	f, err := a.filter(c)
	unit, zoneName := c.DefaultQuery("unit", "day"), c.Query("zone")
	if site := a.sites[f.Site]; site != nil && zoneName == "" {
		zoneName = site.TimeZone
	}
	zone, err2 := time.LoadLocation(zoneName)
	switch {
	case err != nil:
	case visit.Units[unit] == 0:
		err = invalidField("unit", fmt.Sprintf("%.20q is not a unit", unit), "Give quarter, hour, day, week or month.")
	case err2 != nil || zoneName == "Local":
		err = invalidField("zone", fmt.Sprintf("%.40q is not a time zone", zoneName), "Give a name of the IANA database, such as Europe/Lisbon.")
	case f.From.IsZero():
		err = invalidField("from", "it is missing", "Give the time that the timeline begins at.")
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	to := f.To
	if to.IsZero() {
		to = a.Now()
	}
	if n := to.Sub(f.From) / visit.Units[unit]; n > timelineMost {
		a.fail(c, invalidField("unit", fmt.Sprintf("that would be %d units", n), fmt.Sprintf("At most %d are given; take a longer unit or a shorter time.", timelineMost)))
		return
	}
	a.settle(c)
	rows, t, err := a.Store.Timeline(c, f, visit.UnitsBetween(unit, f.From, to, zone, timelineMost+1), a.Now())
	if err != nil {
		a.fail(c, err)
		return
	}
	total := int64(0)
	for _, row := range rows {
		total += row.Visits
	}
	said, err := a.answeredBy(c, f, "timeline", t, total)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	a.answerList(c, "rows", struct {
		answered
		Unit string            `json:"unit"`
		Zone string            `json:"zone"`
		Rows []visit.TimeCount `json:"rows"`
	}{said, unit, zone.String(), rows})
}

// getHours counts visits by the hour of the week where the visitors are.
func (a *api) getHours(c *gin.Context) {
	f, _, ok := a.counted(c)
	if !ok {
		return
	}
	t, err := a.Store.Tally(c, f, visit.ByHour, a.Now())
	if err != nil {
		a.fail(c, err)
		return
	}
	type hour struct {
		Weekday int   `json:"weekday"` // 1 is Monday (ISO 8601)
		Hour    int   `json:"hour"`
		Visits  int64 `json:"visits"`
	}
	rows := make([]hour, 7*24)
	for i := range rows {
		rows[i] = hour{Weekday: i/24 + 1, Hour: i % 24}
	}
	for _, k := range t.Keys {
		if i, err := strconv.Atoi(k.Key); err == nil && i >= 0 && i < len(rows) {
			rows[i].Visits = k.Visits
		}
	}
	said, err := a.answeredBy(c, f, "hours", t, t.Sum())
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	a.answerList(c, "rows", struct {
		answered
		Rows []hour `json:"rows"`
	}{said, rows})
}

// getVisitors gives the distinct visitors of each day.
func (a *api) getVisitors(c *gin.Context) {
	f, err := a.filter(c)
	if err == nil && !f.OnlyTimes() {
		err = invalidField("site", "visitors are told apart for a site and day only", "Leave all filters but site, from and to out.")
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	a.settle(c)
	rows, err := a.Store.Visitors(c, f)
	if err != nil {
		a.fail(c, err)
		return
	}
	t := visit.Tally{Counted: true}
	var total int64
	for _, r := range rows {
		total += r.Visits
	}
	said, err := a.answeredBy(c, f, "visitors", t, total)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	a.answerList(c, "rows", struct {
		answered
		Rows []visit.TimeCount `json:"rows"`
	}{said, append([]visit.TimeCount{}, rows...)})
}
