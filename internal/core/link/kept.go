package link

import "time"

// A Kept is a link as it is kept.
type Kept struct {
	Link
	Off      *time.Time // since when it is disabled
	Revision int64
}

// Counted is what is counted of a link: redirects that count for its limit, and clicks that were not recorded.
type Counted struct{ Used, NotRecorded int64 }

// A Tally is what was counted in memory and is to be added.
type Tally struct {
	Counts map[string]Counted // by code
	Asked  map[AskedKey]int64 // for codes that no link has
	Day    time.Time          // that they were asked for on
}

// AskedKey is a code of a site's; "" stands for all that are not counted by name.
type AskedKey struct{ Site, Code string }

// A Question is which links of a site are listed: Active or Ended for those only, and those that have
// Search in what is said of them.
type Question struct {
	Site, Search  string
	Active, Ended bool
	Offset, Limit int
	Days          []time.Time // of which clicks are counted, in UTC
}

// A Listed is a link in a list.
type Listed struct {
	Kept
	Days []int64 // clicks
	Last *Last
}
