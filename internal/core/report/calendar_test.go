package report_test

import (
	"fmt"
	"sort"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/report"
)

// On the days around every change of every zone's clock the units follow each other without
// a gap, and hold the moments that the calendar says: a model that knows nothing of how
// they were made.
func TestUnitsFollowTheClockOfEveryZone(t *testing.T) {
	t.Parallel()
	names := map[string]bool{"Australia/Lord_Howe": true, "America/Havana": true, "America/Santiago": true, "Africa/Cairo": true, "UTC": true}
	for _, town := range gazetteer.Towns() {
		names[town.Zone] = true
	}
	label := map[string]func(time.Time) string{
		"quarter": func(t time.Time) string { return t.Truncate(15 * time.Minute).UTC().String() },
		"day":     func(t time.Time) string { return t.Format("2006-01-02") },
		"week":    func(t time.Time) string { y, w := t.ISOWeek(); return fmt.Sprint(y, w) },
		"month":   func(t time.Time) string { return t.Format("2006-01") },
	}
	changes, moments := 0, 0
	for name := range names {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		around := []time.Time{time.Date(2011, 12, 30, 9, 0, 0, 0, time.UTC)} // Samoa had no such day
		for at := time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC); at.Year() < 2028; {
			_, end := at.In(zone).ZoneBounds()
			if end.IsZero() {
				break
			}
			around, at = append(around, end), end
			changes++
		}
		for _, change := range around {
			for unit := range report.Units {
				from, to := change.Add(-53*time.Hour-7*time.Minute), change.Add(49*time.Hour+3*time.Minute)
				starts := report.UnitsBetween(unit, from, to, zone, 5000)
				require.False(t, starts[0].After(from), "%s %s", name, unit)
				require.True(t, starts[len(starts)-1].Before(to))
				for i := 1; i < len(starts); i++ {
					require.True(t, starts[i-1].Before(starts[i]), "%s %s", name, unit)
				}
				for at := from; at.Before(to); at = at.Add(15 * time.Minute) {
					moments++
					i := sort.Search(len(starts), func(i int) bool { return starts[i].After(at) }) - 1
					if unit == "hour" {
						require.Zero(t, starts[i].Minute())
						require.LessOrEqual(t, at.Sub(starts[i]), 90*time.Minute)
						continue
					}
					of := label[unit]
					require.Equal(t, of(at.In(zone)), of(starts[i]), "%s %s at %s", name, unit, at.In(zone))
					if i > 0 {
						require.NotEqual(t, of(starts[i-1]), of(starts[i]), "%s: one %s is in two parts", name, unit)
					}
				}
			}
		}
	}
	t.Logf("%d zones, %d changes of clocks, %d moments tried, 0 differ", len(names), changes, moments)
}
