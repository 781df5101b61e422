package source

import (
	"bytes"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/mrt"
)

// A small packed dump may hold millions of records that say nothing: each kind of them is one
// remark, and what is written down of rejects does not grow with them.
func TestRecordsThatSayNothingAreCountedOnly(t *testing.T) {
	w := &mrt.Writer{}
	w.Peers(3)
	w.Route(netip.MustParsePrefix("198.18.0.0/24"), false, mrt.Path{AS: []uint32{3320}})
	const each = 60_000 // more than are handed on at a time
	for i := range each {
		w.Route(netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 18, byte(i >> 8), byte(i)}), 32), false)
		w.Record(13, 99, nil)
		w.Record(13, 2, nil)
	}
	var rejected bytes.Buffer
	s, err := Read(bytes.NewReader(w.Buffer), ParseOptions{Format: "mrt", Observer: Observer{Rejected: &rejected}}, atlas.About{Name: "dump"})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1, 3}, []int{s.Rows, s.Accepted, s.Remarked})
	assert.Less(t, rejected.Len(), 1000)

	// Prefixes that are dropped one by one are handed on as they are read.
	w = &mrt.Writer{}
	w.Peers(3)
	w.Route(netip.MustParsePrefix("198.18.0.0/24"), false, mrt.Path{AS: []uint32{3320}})
	for i := range each {
		w.Route(netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 18, byte(i >> 8), byte(i)}), 32), false, mrt.Path{AS: []uint32{3320}})
	}
	s, err = Read(bytes.NewReader(w.Buffer), ParseOptions{Format: "mrt"}, atlas.About{Name: "dump"})
	require.NoError(t, err)
	assert.Equal(t, []int{each + 1, 1, each}, []int{s.Rows, s.Accepted, s.Remarked})
}
