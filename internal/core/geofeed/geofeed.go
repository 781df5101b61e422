// Package geofeed says which of the geofeeds that networks publish speaks for an address (RFC
// 9632): where a registry's object of a range names a feed, and for that range alone.
package geofeed

import (
	"cmp"
	"math/big"
	"net/netip"
	"slices"

	"eastporch/internal/core/addr"
)

// A Referral is where a range's holder, or the owner, names the feed that speaks for it.
type Referral struct {
	Range    addr.OptionalRange `json:"range"`
	URL      string             `json:"url"`
	ByRemark bool               `json:"by_remark"` // by the older form, a remark
	Network  string             `json:"network"`   // what the registry calls the range
	Line     int                `json:"line"`      // of the object in its source
	Source   string             `json:"source"`    // which names it; "" is the owner's own list
}

// A Decider knows which referral decides for every address: that of the range with the fewest
// addresses which holds it, of as many the one that stands first. It is immutable.
type Decider struct {
	referrals []Referral
	sizes     []*big.Int              // of their ranges
	segments  []segment               // in order, without overlap
	feeds     map[string][]addr.Range // by URL: the widest ranges that name it, in order
}

type segment struct {
	addr.Range
	by int // its index in referrals
}

// Decide makes a Decider of referrals.
func Decide(referrals []Referral) *Decider {
	d := &Decider{referrals: referrals, feeds: map[string][]addr.Range{}}
	order := make([]int, len(referrals))
	for i := range order {
		order[i] = i
		d.sizes = append(d.sizes, referrals[i].Range.Count())
	}
	slices.SortStableFunc(order, func(a, b int) int { return compare(referrals[a].Range.Range, referrals[b].Range.Range) })
	for _, i := range order {
		r := referrals[i]
		if list := d.feeds[r.URL]; len(list) == 0 || !holds(list[len(list)-1], r.Range.Range) {
			d.feeds[r.URL] = append(list, r.Range.Range)
		}
	}
	var open []int // that hold at, the most specific last
	var at netip.Addr
	for len(order) > 0 || len(open) > 0 {
		if len(open) == 0 {
			at = referrals[order[0]].Range.First
		}
		for ; len(order) > 0 && referrals[order[0]].Range.First == at; order = order[1:] {
			n, _ := slices.BinarySearchFunc(open, order[0], d.outer)
			open = slices.Insert(open, n, order[0])
		}
		by := open[len(open)-1]
		last := referrals[by].Range.Last
		if len(order) > 0 && !last.Less(referrals[order[0]].Range.First) {
			last = referrals[order[0]].Range.First.Prev()
		}
		d.segments = append(d.segments, segment{addr.Range{First: at, Last: last}, by})
		at = last.Next()
		open = slices.DeleteFunc(open, func(i int) bool { return !last.Less(referrals[i].Range.Last) })
	}
	return d
}

// compare orders ranges by their beginning, the wider first.
func compare(a, b addr.Range) int {
	if c := a.First.Compare(b.First); c != 0 {
		return c
	}
	return b.Last.Compare(a.Last)
}

// outer orders referrals from the least specific on, and of ranges that are as large the later first.
func (d *Decider) outer(a, b int) int {
	return cmp.Or(d.sizes[b].Cmp(d.sizes[a]), b-a)
}

// Of gives the referral that decides for an address.
func (d *Decider) Of(a netip.Addr) (r Referral, ok bool) {
	i := d.from(a)
	if i == len(d.segments) || a.Less(d.segments[i].First) {
		return r, false
	}
	return d.referrals[d.segments[i].by], true
}

// from is the first segment that ends at or after an address.
func (d *Decider) from(a netip.Addr) int {
	i, _ := slices.BinarySearchFunc(d.segments, a, func(s segment, a netip.Addr) int { return s.Last.Compare(a) })
	return i
}

// Within gives the parts of an entry of a feed that count. inside is false where no range that
// names the feed holds all of the entry: then nothing of it does. Parts for which a more
// specific range names another feed are left out.
func (d *Decider) Within(feed string, entry addr.Range) (parts []addr.Range, inside bool) {
	list := d.feeds[feed]
	n, found := slices.BinarySearchFunc(list, entry.First, func(r addr.Range, a netip.Addr) int { return r.First.Compare(a) })
	if !found {
		n--
	}
	if n < 0 || !holds(list[n], entry) {
		return nil, false
	}
	for i := d.from(entry.First); i < len(d.segments) && !entry.Last.Less(d.segments[i].First); i++ {
		s := d.segments[i]
		if d.referrals[s.by].URL != feed {
			continue
		}
		part := addr.Range{First: maxAddr(s.First, entry.First), Last: minAddr(s.Last, entry.Last)}
		if n := len(parts); n > 0 && parts[n-1].Last.Next() == part.First {
			parts[n-1].Last = part.Last
		} else {
			parts = append(parts, part)
		}
	}
	return parts, true
}

func holds(outer, inner addr.Range) bool {
	return outer.Contains(inner.First) && outer.Contains(inner.Last)
}

func maxAddr(a, b netip.Addr) netip.Addr {
	if a.Less(b) {
		return b
	}
	return a
}

func minAddr(a, b netip.Addr) netip.Addr {
	if b.Less(a) {
		return b
	}
	return a
}
