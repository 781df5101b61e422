package notice

import "time"

// Holds says whether a moment is in the quiet time, by a clock.
func (q *Quiet) Holds(at time.Time, zone *time.Location) bool {
	if q == nil {
		return false
	}
	from, _ := minutes(q.From) // which were checked
	to, _ := minutes(q.To)
	at = at.In(zone)
	now := at.Hour()*60 + at.Minute()
	if from < to {
		return from <= now && now < to
	}
	return now >= from || now < to
}

// Round names the quiet time that a moment is in: those of one have the same name, also where it goes over midnight
// or lasts all day. It is the moment at which it ends, to the minute.
func (q *Quiet) Round(at time.Time, zone *time.Location) time.Time {
	to, _ := minutes(q.To)
	at = at.In(zone)
	y, m, d := at.Date()
	end := time.Date(y, m, d, 0, to, 0, 0, zone)
	if !end.After(at) {
		end = time.Date(y, m, d+1, 0, to, 0, 0, zone)
	}
	return end
}

// Window is how far back a limit counts.
func (l Limit) Window() time.Duration {
	if l.Every == "hour" {
		return time.Hour
	}
	return 24 * time.Hour
}
