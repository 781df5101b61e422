package atlas_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
)

func smallEdition(t testing.TB) []byte {
	t.Helper()
	r := rand.New(rand.NewPCG(6, 6))
	rows := "range,country_code,city,as_number\n"
	for i := range 60 {
		rows += fmt.Sprintf("198.18.%d.%d-198.18.%d.255,PT,Town %d,\n", r.IntN(64), r.IntN(256), 64+r.IntN(64), i)
		rows += fmt.Sprintf("2001:db8:%x:%x00::/%d,ES,,%d\n", r.IntN(4), r.IntN(256), 56+r.IntN(50), i+1)
		rows += fmt.Sprintf("2001:db8:%x::/%d,GR,,\n", r.IntN(65536), 48)
	}
	return written(t, atlas.New(table(t, "invented", 1, rows)))
}

// nearby is an address that a small edition may know.
func nearby(r *rand.Rand) netip.Addr {
	if r.IntN(2) == 0 {
		return netip.AddrFrom4([4]byte{198, 18, byte(r.UintN(128)), byte(r.UintN(256))})
	}
	return netip.AddrFrom16([16]byte{0x20, 0x01, 0x0d, 0xb8, 0, byte(r.UintN(4)), byte(r.UintN(256)), byte(r.UintN(4)), byte(r.UintN(256))})
}

// aligned puts bytes where a mapping would put them.
func aligned(b []byte) []byte {
	w := make([]uint32, len(b)/4+1)
	to := atlas.AsBytes(w)[:len(b)]
	copy(to, b)
	return to
}

func TestEditionsThatAreNone(t *testing.T) {
	whole := smallEdition(t)
	for name, c := range map[string]struct {
		change func([]byte) []byte
		says   string
	}{
		"empty":      {func([]byte) []byte { return nil }, "does not begin as one"},
		"truncated":  {func(b []byte) []byte { return b[:len(b)-1] }, "copy or build it again"},
		"half":       {func(b []byte) []byte { return b[:len(b)/2] }, "copy or build it again"},
		"other":      {func([]byte) []byte { return bytes.Repeat([]byte("x"), 500) }, "does not begin as one"},
		"an old one": {func(b []byte) []byte { b[16] = 0; return b }, "atlas build"},
		"its header": {func(b []byte) []byte { b[100] ^= 1; return b }, "header is damaged"},
		"longer":     {func(b []byte) []byte { return append(b, 0) }, "bytes of"},
	} {
		_, err := atlas.OpenBytes(c.change(aligned(whole)), nil)
		require.ErrorContains(t, err, c.says, name)
		require.ErrorIs(t, err, atlas.ErrEdition)
	}
}

func TestEveryFlippedBitIsFoundOrHarmless(t *testing.T) {
	whole := aligned(smallEdition(t))
	size := binary.LittleEndian.Uint64(whole[24:])
	r := rand.New(rand.NewPCG(7, 7))
	sections := 0
	for range 600 {
		at, bit := r.IntN(len(whole)), byte(1)<<r.IntN(8)
		whole[at] ^= bit
		a, err := atlas.OpenBytes(whole, nil)
		if err == nil {
			for range 20 {
				_ = a.Why(nearby(r))
			}
			inBody := at >= atlas.PreludeSize+int(size)
			if found := a.Verify(); found != nil {
				require.ErrorIs(t, found, atlas.ErrEdition)
				sections++
			} else {
				require.True(t, inBody || at >= 40, "byte %d", at) // padding, or the prelude's unused end
			}
		}
		whole[at] ^= bit
	}
	assert.Positive(t, sections)
}

func FuzzOpen(f *testing.F) {
	whole := smallEdition(f)
	f.Add(uint32(0), []byte("anything"))
	f.Add(uint32(atlas.PreludeSize+binary.LittleEndian.Uint64(whole[24:])+64), bytes.Repeat([]byte{0xff}, 4096))
	f.Fuzz(func(t *testing.T, at uint32, with []byte) {
		b := aligned(whole)
		copy(b[at%uint32(len(b)):], with)
		a, err := atlas.OpenBytes(b, nil)
		if err != nil {
			return
		}
		r := rand.New(rand.NewPCG(uint64(at), 1))
		for range 50 {
			_ = a.Why(nearby(r))
		}
		_ = a.Verify()
	})
}
