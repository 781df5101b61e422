package visit

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

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
			v = v.Keep(mode, "hash 0123")
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
