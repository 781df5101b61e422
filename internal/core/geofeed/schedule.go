package geofeed

import (
	"crypto/sha256"
	"encoding/binary"
	"time"
)

const (
	day = 24 * time.Hour
	// unsaid is how long a feed is used whose server says nothing of how long it may be.
	unsaid = 7 * day
	// longest is how long a feed is used at most without asking again.
	longest = 30 * day
	// KeptFor is how long the last good content of a feed is used that can be got no more.
	KeptFor = 30 * day
)

// Next is when a feed is asked for again: once it has expired by HTTP, weekly where fresh is
// below 0, for nothing was said; never within a day; after failures in a row one day later, then
// two, four and at most eight. It is at a second of the day that host and installation give, so
// that not all the world asks at once (RFC 9632, section 7).
func Next(now time.Time, fresh time.Duration, failures int, host, installation string) time.Time {
	wait := min(max(fresh, day), longest)
	switch {
	case failures > 0:
		wait = day << min(failures-1, 3)
	case fresh < 0:
		wait = unsaid
	}
	sum := sha256.Sum256([]byte(host + "\n" + installation))
	second := time.Duration(binary.BigEndian.Uint32(sum[:])%(24*60*60)) * time.Second
	at := now.UTC().Add(wait)
	spread := at.Truncate(day).Add(second)
	if spread.Before(at) {
		spread = spread.Add(day)
	}
	return spread
}
