package geofeed

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"eastporch/internal/core/addr"
)

// small gives a range within 192.0.2.0/24 and its neighbours, or within a few IPv6 addresses.
func small(r *rand.Rand) addr.Range {
	first := r.IntN(768)
	last := first + r.IntN([]int{1, 4, 16, 64, 256, 767}[r.IntN(6)])
	if r.IntN(2) == 0 { // a prefix
		bits := r.IntN(9)
		first = first >> bits << bits
		last = first + 1<<bits - 1
	}
	last = min(last, 767)
	if r.IntN(4) == 0 {
		return addr.Range{First: netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 14: byte(first >> 8), 15: byte(first)}), Last: netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 14: byte(last >> 8), 15: byte(last)})}
	}
	return addr.Range{First: netip.AddrFrom4([4]byte{192, 0, byte(1 + first>>8), byte(first)}), Last: netip.AddrFrom4([4]byte{192, 0, byte(1 + last>>8), byte(last)})}
}

// The model asks of every address, one by one, which range holds it and is the smallest.
func TestDecidingAgreesWithAModel(t *testing.T) {
	r := rand.New(rand.NewPCG(9632, 1))
	for n := range 1500 {
		referrals := make([]Referral, r.IntN(12))
		for i := range referrals {
			referrals[i] = Referral{Range: addr.OptionalRange{Range: small(r)}, URL: fmt.Sprintf("https://%d.example", r.IntN(4)), Line: i}
		}
		d := Decide(referrals)
		decides := func(a netip.Addr) int {
			best := -1
			for i, f := range referrals {
				if f.Range.Contains(a) && (best < 0 || f.Range.Count().Cmp(referrals[best].Range.Count()) < 0) {
					best = i
				}
			}
			return best
		}
		for range 20 {
			a := small(r).First
			got, ok := d.Of(a)
			want := decides(a)
			if !assert.Equal(t, want >= 0, ok, "%d: %s", n, a) || ok && !assert.Equal(t, want, got.Line, "%d: %s", n, a) {
				return
			}
			feed, entry := fmt.Sprintf("https://%d.example", r.IntN(4)), small(r)
			named := false
			for _, f := range referrals {
				named = named || f.URL == feed && f.Range.Contains(entry.First) && f.Range.Contains(entry.Last)
			}
			parts, inside := d.Within(feed, entry)
			if !assert.Equal(t, named, inside, "%d: %s in %v", n, entry, referrals) {
				return
			}
			for a := entry.First; entry.Contains(a); a = a.Next() {
				in := 0
				for _, p := range parts {
					if p.Contains(a) {
						in++
					}
				}
				by := decides(a)
				want := 0
				if inside && by >= 0 && referrals[by].URL == feed {
					want = 1
				}
				if !assert.Equal(t, want, in, "%d: %s of %s in %v", n, a, entry, referrals) {
					return
				}
			}
		}
	}
}

func TestTheEndOfEachFamily(t *testing.T) {
	for _, text := range []string{"0.0.0.0-255.255.255.255", "::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff"} {
		whole, err := addr.ParseRange(text)
		assert.NoError(t, err)
		d := Decide([]Referral{{Range: addr.OptionalRange{Range: whole}, URL: "a"}, {Range: addr.OptionalRange{Range: addr.Range{First: whole.Last, Last: whole.Last}}, URL: "b"}})
		r, ok := d.Of(whole.Last)
		assert.True(t, ok)
		assert.Equal(t, "b", r.URL)
		parts, inside := d.Within("a", whole)
		assert.True(t, inside)
		assert.Equal(t, []addr.Range{{First: whole.First, Last: whole.Last.Prev()}}, parts)
	}
}
