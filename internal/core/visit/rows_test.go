package visit

import (
	"encoding/json"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
)

// The cards and trails of rows are written byte for byte as encoding/json writes them.
func TestRowsAsJSON(t *testing.T) {
	p := pipeline(t)
	text := func(s string) *string { return &s }
	for i, lines := range [][]string{nil, {"192.0.2.10, 198.18.7.114"}, {"unknown"}, {"198.18.3.40, 203.0.113.10", "<b>\"é\""}, {"2001:db8::1, 10.1.2.3"}} {
		for _, mode := range []Mode{Whole, Truncated, Hashed, Nothing} {
			card, trail := p.Visitor(netip.MustParseAddr("203.0.113.4"), map[string][]string{"X-Forwarded-For": lines, "Accept-Language": {"fi"}}, card.RequestContext{}, now)
			id, err := NewID(now, strings.NewReader("ten random bytes"))
			require.NoError(t, err)
			v := Visit{ID: id, Time: now, Site: "heronlake.example", Path: "/<a>&\u2028", Card: card, Trail: trail, Marks: []string{}}
			if i%2 == 1 {
				v.Referrer, v.UserAgent, v.Link, v.Marks, v.VisitorHash = text("https://a.example/\"x\""), text("Mozilla/5.0"), text("poster"), []string{MarkTest}, -7
				v.Card.Gate = &gate.Decision{Outcome: gate.Admit, Would: gate.Refuse, Mode: gate.Watch, Gate: text("Early <entry>"), By: gate.ByList, Reason: "x", Evidence: []gate.Ground{{Fact: "country_code", Value: "PT"}}}
				v.Attributes = json.RawMessage(`{"a":[1,"b"]}`)
			}
			v.Keep(mode, "hash 0123")
			row, facts, err := v.Row()
			require.NoError(t, err)
			back, err := row.Visit(facts)
			require.NoError(t, err)
			require.Equal(t, v.Card.Gate, back.Card.Gate)
			require.Equal(t, map[bool]string{true: GateWouldRefuse}[i%2 == 1], row.Gate)
			wantTrail, err := json.Marshal(v.Trail)
			require.NoError(t, err)
			require.Equal(t, string(wantTrail), string(row.Trail))
			c, l := v.Card, v.Card.Locale
			wantCard, err := json.Marshal(personal{c.Address, c.Labels, storedLocale{l.Language, l.Script, l.Direction, l.Formatting, l.Reason, l.Offered}, c.Clock, c.Variants, c.Gate})
			require.NoError(t, err)
			require.Equal(t, string(wantCard), string(row.Card))
		}
	}
}

// Rows are written byte for byte as a library writes CBOR by their tags.
func TestRowsAsCBOR(t *testing.T) {
	library, err := cbor.EncOptions{TextMarshaler: cbor.TextMarshalerTextString}.EncMode()
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(9, 35))
	some := func(n int) string { return strings.Repeat("é\"\x00", r.IntN(n)) }
	maybe := func() *string {
		if r.IntN(2) == 0 {
			return nil
		}
		text := some(60)
		return &text
	}
	list := func() []string {
		texts := make([]string, r.IntN(30))
		for i := range texts {
			texts[i] = some(12)
		}
		return texts
	}
	for range 5000 {
		row := Row{
			ID: uuid.New(), Site: some(9), Path: some(200), Referrer: maybe(), UserAgent: maybe(),
			Link: maybe(), Destination: maybe(), Placeholder: maybe(), Attributes: []byte(some(30)),
			Marks: list(), Labels: list(), Language: some(3), Skipped: r.IntN(2) == 0,
			Unverified: r.IntN(3) * r.IntN(1<<20), VisitorHash: int64(r.Uint64()) >> r.IntN(64),
			Card: []byte(some(1 << r.IntN(16))), Trail: []byte(some(500)), FactsID: uuid.New(), Gate: some(3),
		}
		if hour := int16(r.IntN(1<<16) >> r.IntN(16)); r.IntN(2) == 0 {
			row.WeekHour = &hour
		}
		if a := [16]byte(uuid.New()); r.IntN(3) > 0 {
			row.Address.Addr = []netip.Addr{netip.AddrFrom16(a), netip.AddrFrom16(a).WithZone(some(40)), netip.AddrFrom4([4]byte(a[:4]))}[r.IntN(3)]
			kind := addr.KindOf(row.Address.Addr)
			row.Kind = &kind
		}
		want, err := library.Marshal(&row)
		require.NoError(t, err)
		require.Equal(t, want, row.AppendCBOR(nil))
		require.Equal(t, append([]byte("before"), want...), row.AppendCBOR([]byte("before")))
	}
}
