package mrt

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The model counts in maps, over the paths that were written.
func TestOriginsAgreeWithAModel(t *testing.T) {
	r := rand.New(rand.NewPCG(6396, 1))
	numbers := []uint32{64500, 64501, 3320, 3320, 400_000, 65552, 131071, 131072, 0, 23456, 64512, 65535, 65540, 4_200_000_000, 1<<32 - 1}
	private := func(as uint32) bool {
		return as == 0 || as == 23456 || as >= 64512 && as <= 65535 || as > 65551 && as < 131072 || as >= 4_200_000_000
	}
	for n := range 3000 {
		documentation := r.IntN(2) == 0
		w := &Writer{}
		w.Peers(40)
		type want struct {
			prefix  netip.Prefix
			origins []Origin
			peers   int
		}
		var wants []want
		for range r.IntN(6) {
			bits := r.IntN(33)
			p, _ := netip.AddrFrom4([4]byte{byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256))}).Prefix(bits)
			if r.IntN(3) == 0 {
				var raw [16]byte
				for i := range raw {
					raw[i] = byte(r.IntN(256))
				}
				p, _ = netip.AddrFrom16(raw).Prefix(r.IntN(129))
			}
			added := r.IntN(3) == 0
			var paths []Path
			seen := map[uint32]map[uint16]bool{}
			for peer := range r.IntN(8) {
				for id := range 1 + r.IntN(3)*map[bool]int{true: 1}[added] {
					path := Path{Peer: uint16(peer), Set: r.IntN(10) == 0, ID: uint32(id)}
					for range r.IntN(5) {
						path.AS = append(path.AS, numbers[r.IntN(len(numbers))])
					}
					path.Set = path.Set && len(path.AS) > 0
					paths = append(paths, path)
					if len(path.AS) == 0 || path.Set {
						continue
					}
					as := path.AS[len(path.AS)-1]
					doc := as >= 64496 && as <= 64511 || as >= 65536 && as <= 65551
					if private(as) || doc && !documentation {
						continue
					}
					if seen[as] == nil {
						seen[as] = map[uint16]bool{}
					}
					seen[as][path.Peer] = true
				}
			}
			w.Route(p, added, paths...)
			made := want{prefix: p, origins: []Origin{}}
			for _, as := range slices.Sorted(maps.Keys(seen)) {
				made.origins = append(made.origins, Origin{as, len(seen[as])})
				made.peers += len(seen[as])
			}
			slices.SortStableFunc(made.origins, func(a, b Origin) int { return cmp.Compare(b.Peers, a.Peers) })
			if len(paths) > 0 {
				wants = append(wants, made)
			}
		}
		var got []want
		stats, err := Read(bytes.NewReader(w.Buffer), documentation, func(route *Route) {
			got = append(got, want{route.Prefix, append([]Origin{}, route.Origins...), route.Peers})
		})
		require.NoError(t, err)
		require.Equal(t, 40, stats.Peers)
		require.Zero(t, stats.Broken)
		require.Equal(t, wants, got, "%d", n)
	}
}

// Wherever a dump is cut or damaged, nothing panics, and what was whole before a cut is told.
func TestDumpsThatAreCutOrDamaged(t *testing.T) {
	w := &Writer{}
	w.Peers(3)
	whole := []int{len(w.Buffer)}
	for i := range 20 {
		w.Route(netip.MustParsePrefix(fmt.Sprintf("198.18.%d.0/24", i)), i%2 == 0, Path{AS: []uint32{64500, 3320}}, Path{Peer: 1, AS: []uint32{64500}, Set: true})
		whole = append(whole, len(w.Buffer))
	}
	for cut := 1; cut < len(w.Buffer); cut++ {
		seen := 0
		_, err := Read(bytes.NewReader(w.Buffer[:cut]), false, func(*Route) { seen++ })
		n, exact := slices.BinarySearch(whole, cut)
		switch {
		case exact:
			require.NoError(t, err)
			require.Equal(t, n, seen)
		case n == 0:
			require.Error(t, err)
		default:
			require.ErrorIs(t, err, ErrCut)
			require.Equal(t, n-1, seen)
		}
	}
	r := rand.New(rand.NewPCG(6396, 2))
	for range 20_000 {
		b := bytes.Clone(w.Buffer)
		for range 1 + r.IntN(4) {
			b[r.IntN(len(b))] = byte(r.IntN(256))
		}
		_, err := Read(bytes.NewReader(b), false, func(route *Route) { require.True(t, route.Prefix.IsValid()) })
		if err != nil {
			require.True(t, errors.Is(err, ErrCut) || errors.Is(err, ErrNotMRT), err)
		}
	}
}

func TestOtherRecordsArePassedOver(t *testing.T) {
	w := &Writer{}
	w.Record(16, 4, []byte("an update"))
	w.Record(13, 6, []byte("generic"))
	w.Record(13, unicast4, []byte{0, 0})
	w.Record(13, peerIndex, []byte{0})
	w.Route(netip.MustParsePrefix("198.18.0.0/24"), false, Path{AS: []uint32{3320}})
	w.Route(netip.MustParsePrefix("198.18.1.0/24"), false)
	n := 0
	stats, err := Read(bytes.NewReader(w.Buffer), false, func(*Route) { n++ })
	require.NoError(t, err)
	assert.Equal(t, []int{1, 6, 2}, []int{n, stats.Records, stats.Broken})
	assert.Equal(t, map[string]int{"records of type 16": 1, "records of TABLE_DUMP_V2 of subtype 6": 1, "prefixes that no peer sees": 1}, stats.Passed)
	for _, text := range []string{"", "short", "<html>this is no dump, but a page that is long enough</html>", "inetnum: 198.18.0.0/24\n"} {
		_, err := Read(bytes.NewReader([]byte(text)), false, func(*Route) {})
		require.ErrorIs(t, err, ErrNotMRT, text)
	}
	big := binary.BigEndian.AppendUint32(append([]byte{}, 0, 0, 0, 0, 0, 13, 0, 2), 1<<31)
	_, err = Read(bytes.NewReader(append(w.Buffer, big...)), false, func(*Route) {})
	require.ErrorIs(t, err, ErrCut)
}
