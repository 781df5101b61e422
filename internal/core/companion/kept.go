package companion

import (
	"errors"
	"time"
)

// Errors of keeping companions.
var (
	ErrNone    = errors.New("there is no companion with this name")
	ErrChanged = errors.New("the companion was changed meanwhile")
)

// A Kept is a companion as it is stored.
type Kept struct {
	Site, Name string
	Said       Said
	Revision   int64
	MadeBy     string
	ChangedAt  time.Time
}

// A Claim asks for one question of an allowance: what may have been asked before it, at most, on a day by
// the site's clock and in a minute.
type Claim struct {
	Day                 time.Time // midnight in UTC of the date
	Minute              int64     // since 1970
	MostDay, MostMinute int64
}

// A Spent is what was asked of an allowance.
type Spent struct {
	Day           time.Time // midnight in UTC of the date
	Asked         int64
	Minute        int64
	AskedInMinute int64
}

// On gives what was asked on a day and in a minute. A day or minute that is ahead counts too: then a clock
// was wrong, and nothing is given twice.
func (s Spent) On(day time.Time, minute int64) (inDay, inMinute int64) {
	if !s.Day.Before(day) {
		inDay = s.Asked
	}
	if s.Minute >= minute {
		inMinute = s.AskedInMinute
	}
	return inDay, inMinute
}

// Date gives the date of a moment in a zone as midnight in UTC, and when it ends.
func Date(now time.Time, zone *time.Location) (day, ends time.Time) {
	y, m, d := now.In(zone).Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC), time.Date(y, m, d+1, 0, 0, 0, 0, zone)
}
