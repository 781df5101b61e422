package addr

import (
	_ "embed"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

//go:embed testdata/find.txt
var corpus string

// Lines of the shapes that software writes: what each holds was written down
// by hand. At least 300, about half of them with nothing to be found.
func TestFindInTheLinesOfSoftware(t *testing.T) {
	tried, alike, differed := 0, 0, 0
	for line := range strings.Lines(corpus) {
		want, text, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if strings.HasPrefix(line, "# ") || line == "\n" {
			continue
		}
		require.True(t, ok, "no tab in %q", line)
		var found []string
		require.NoError(t, Find(strings.NewReader(text), func(f Found) error {
			require.Equal(t, text[f.Offset:f.Offset+int64(len(f.Text))], f.Text)
			if f.Reason == "" {
				found = append(found, shown(f))
			}
			return nil
		}))
		tried++
		if want == "-" {
			want = ""
			alike++
		}
		if !assert.Equal(t, want, strings.Join(found, ","), text) {
			differed++
		}
	}
	t.Logf("%d lines, %d of them look-alikes: %d differed", tried, alike, differed)
	require.GreaterOrEqual(t, tried, 300)
	require.InDelta(t, tried/2, alike, float64(tried)/10)
}

func shown(f Found) string {
	text := strings.TrimSuffix(strings.TrimSuffix(f.Prefix.String(), "/32"), "/128")
	if f.Prefix.Addr().Is6() && f.Prefix.Bits() == 32 {
		text += "/32"
	}
	if f.Other.IsValid() {
		text += "|" + f.Other.Addr().String()
	}
	return text
}

// Random addresses in every way of writing that find reads, among words: it finds each,
// once, and nothing else.
func TestFindHoweverItIsWritten(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 11))
	dotted := func(mark string) func(netip.Addr) string {
		return func(a netip.Addr) string {
			return strings.NewReplacer(".", mark, ":", strings.ReplaceAll(mark, ".", ":")).Replace(a.String())
		}
	}
	reversed := func(a netip.Addr) string {
		if a.Is4() {
			b := a.As4()
			return fmt.Sprintf("%d.%d.%d.%d.in-addr.arpa", b[3], b[2], b[1], b[0])
		}
		digits := strings.ReplaceAll(a.StringExpanded(), ":", "")
		var b strings.Builder
		for i := len(digits) - 1; i >= 0; i-- {
			b.WriteString(digits[i:i+1] + ".")
		}
		return b.String() + "ip6.arpa"
	}
	port := func(a netip.Addr) string { return netip.AddrPortFrom(a, uint16(1+r.IntN(65535))).String() }
	ways := map[string]func(netip.Addr) string{
		"plain": netip.Addr.String, "expanded": netip.Addr.StringExpanded, "percent": func(a netip.Addr) string { return url.QueryEscape(a.String()) },
		"percent twice": func(a netip.Addr) string { return url.QueryEscape(url.QueryEscape(a.String())) },
		"port":          port, "encoded port": func(a netip.Addr) string { return url.QueryEscape(port(a)) }, "defanged": dotted("[.]"), "in words": dotted("[dot]"),
		"reverse": reversed, "json": func(a netip.Addr) string { return `\n` + a.String() + `\u003e` }, "link": func(a netip.Addr) string { return "http://" + port(a) + "/" },
	}
	tried, differed := 0, 0
	for name, write := range ways {
		for range 2000 {
			a := netip.AddrFrom4([4]byte{byte(1 + r.IntN(223)), byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256))})
			if r.IntN(2) == 0 {
				b := [16]byte{0x20, 0x01, 0x0d, 0xb8}
				for i := 4; i < 16; i++ {
					b[i] = byte(r.IntN(256)) * byte(r.IntN(2))
				}
				a = netip.AddrFrom16(b)
			}
			if name == "in words" && a.Is6() {
				continue
			}
			text := []string{"from %s today", "ip=%s&x", `{"a":"%s"}`, "<%s>", "(%s)", "%s", "a\t%s\tb", "to %s."}[r.IntN(8)]
			text = strings.Replace(text, "%s", write(a), 1)
			var found []string
			require.NoError(t, Find(strings.NewReader(text), func(f Found) error {
				if f.Reason == "" {
					found = append(found, f.Prefix.Addr().String())
				}
				return nil
			}))
			tried++
			if !assert.Equal(t, []string{a.String()}, found, "%s: %s", name, text) {
				differed++
			}
			if differed > 10 {
				t.FailNow()
			}
		}
	}
	t.Logf("%d texts: %d differed", tried, differed)
}
