package config

import (
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
)

func load(t *testing.T, text string, env map[string]string, flags map[string]any) (*Config, error) {
	t.Helper()
	in := Input{Getenv: func(k string) string { return env[k] }, Flags: flags}
	if text != "" {
		in.File = filepath.Join(t.TempDir(), "eastporch.yaml")
		require.NoError(t, os.WriteFile(in.File, []byte(text), 0o600))
	}
	return Load(in)
}

func TestDefaults(t *testing.T) {
	c, err := load(t, "", map[string]string{"HOME": "/home/anna"}, nil)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:8080", c.Public.Address)
	assert.Equal(t, 10*time.Second, c.ShutdownGrace)
	assert.Empty(t, c.Proxies.Trusted, "no proxy is trusted by default")
	assert.Equal(t, visit.Truncated, c.Sites[0].PrivacyMode())
	assert.Empty(t, c.Rules())
}

func TestFlagsGoBeforeVariablesBeforeTheFile(t *testing.T) {
	text := "sites: [{host: localhost}]\npublic: {address: '127.0.0.1:1'}\nadmin: {address: '127.0.0.1:1'}\nlog: {level: error}\n"
	env := map[string]string{"EASTPORCH_ADMIN_ADDRESS": "127.0.0.1:2", "EASTPORCH_LOG_LEVEL": "warn", "EASTPORCH_PROXIES_TRUSTED": "10.0.0.0/8, ::1"}
	c, err := load(t, text, env, map[string]any{"log.level": "debug"})
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:1", c.Public.Address)
	assert.Equal(t, "127.0.0.1:2", c.Admin.Address)
	assert.Equal(t, "debug", c.Log.Level)
	assert.Equal(t, []string{"10.0.0.0/8", "::1"}, c.Proxies.Trusted)
}

func TestFile(t *testing.T) {
	c, err := load(t, `
sites:
  - {host: heronlake.example, name: Heron Lake Regatta, privacy: whole}
policy:
  - {prefix: 198.18.0.0/15, action: resolve}
  - {kind: loopback, action: skip, placeholder: this machine}
atlas:
  sources:
    - {name: Harbour Net geofeed, file: feed.csv, format: geofeed, rank: 2, dated: 2026-10-28}
`, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, visit.Whole, c.Sites[0].PrivacyMode())
	rules := c.Rules()
	assert.Equal(t, addr.Resolve, rules[0].Action)
	assert.Equal(t, addr.Loopback, rules[1].Kind)
	assert.Equal(t, "2026-10-28", c.Atlas.Sources[0].Dated, "an unquoted date stays text")
	assert.Equal(t, filepath.Join("/etc/eastporch", "feed.csv"), Input{File: "/etc/eastporch/e.yaml"}.Path(c.Atlas.Sources[0].File))
}

func TestWhatASiteOffers(t *testing.T) {
	c, err := load(t, `
groups: {nordic: [NO, SE]}
labels: {office: [192.0.2.0/28]}
sites:
  - host: heronlake.example
    languages: [en, pt-PT]
    currency: eur
    price_endings: {JPY: x00}
    business_hours: 08:30-16:00
    variants:
      - name: offer
        default: open
        rules:
          - {variant: early, groups: [nordic], labels: [office]}
`, nil, nil)
	require.NoError(t, err)
	site := c.Sites[0]
	assert.Equal(t, "08:30-16:00", site.Hours().String())
	assert.Equal(t, "x00", site.Endings()["JPY"].String())
	assert.Equal(t, []variant.Set{{Name: "offer", Default: "open", Rules: []variant.Rule{{Variant: "early", When: variant.When{Groups: []string{"nordic"}, Labels: []string{"office"}}}}}}, site.Sets())
	norway, _ := almanac.ByCode("NO")
	assert.True(t, c.CountryGroups().Has("nordic", norway), "an unquoted NO is Norway")
	assert.Equal(t, locale.UsualHours, Site{}.Hours())
	assert.Equal(t, 15*time.Minute, c.Handover.CookieLasts)
}

func TestProblemsNameTheLineAndTheRemedy(t *testing.T) {
	tests := []struct {
		name, text string
		want       []string
	}{
		{"an unknown key", "admin:\n  adress: x\n", []string{"line 2", "admin.adress", `Did you mean "address"?`}},
		{"an unknown key in a list", "sites:\n  - host: a\n    privcy: whole\n", []string{"line 3", `Did you mean "privacy"?`}},
		{"an unknown key like none", "zzz: 1\n", []string{"line 1", "Known here are public"}},
		{"a port", "admin:\n  address: 127.0.0.1:99999\n", []string{"line 2", "127.0.0.1:8080"}},
		{"a name for an address", "admin:\n  address: porch.example:80\n", []string{"line 2", "not an IP address"}},
		{"a bad prefix", "proxies:\n  trusted:\n    - 10.0.0.0/8\n    - 203.0.113.4/28\n", []string{"line 4", "did you mean 203.0.113.0/28?"}},
		{"a kind", "policy:\n  - {kind: privat, action: resolve}\n", []string{"line 2", "Give one of reserved, public, private"}},
		{"a kind and a prefix", "policy:\n  - {kind: private, prefix: 10.0.0.0/8, action: resolve}\n", []string{"line 2", "not both"}},
		{"an action", "policy:\n  - {kind: private, action: open}\n", []string{"line 2", "action: resolve"}},
		{"a privacy mode", "sites:\n  - {host: a, privacy: hole}\n", []string{"line 2", "truncated, whole, hashed, none"}},
		{"a site that is an address of a page", "sites:\n  - {host: 'https://heronlake.example'}\n", []string{"line 2", "is not a host", "without https://"}},
		{"a site with a port", "sites:\n  - {host: 'heronlake.example:8080'}\n", []string{"line 2", "is not a host"}},
		{"a site in capitals", "sites:\n  - {host: HeronLake.example}\n", []string{"line 2", "in small letters"}},
		{"no site", "log: {level: info}\n", []string{"sites: none is named"}},
		{"a site twice", "sites:\n  - {host: a}\n  - {host: a}\n", []string{"line 3", "twice"}},
		{"a format, a rank and a date", "atlas:\n  sources:\n    - {name: n, file: f, format: cvs, rank: 0, dated: soon}\n", []string{"line 3", "geofeed", "1 is highest", "2026-11-01"}},
		{"a duration", "shutdown_grace: soon\n", []string{"line 1", "shutdown_grace"}},
		{"a duration of nothing", "shutdown_grace: 0s\n", []string{"line 1", "more than nothing"}},
		{"a database", "database: {url: mysql://x}\n", []string{"line 1", "postgres://"}},
		{"a column for nothing", "atlas:\n  sources:\n    - name: n\n      file: f\n      format: csv\n      rank: 1\n      columns: {town: Ort}\n", []string{"line 7", "Known are range"}},
		{"a NAT64 prefix of no length", "nat64:\n  - 64:ff9b:1::/48\n  - 64:ff9b:1::/50\n", []string{"line 3", "RFC 6052"}},
		{"an unknown label", "proxies:\n  trusted: ['label:office']\n", []string{"line 2", "under labels"}},
		{"a bad prefix of a label", "labels:\n  office:\n    - 10.0.0.0/8\n    - 10.1.2.3/8\n", []string{"line 4", "did you mean 10.0.0.0/8?"}},
		{"hops of a single value", "proxies:\n  trusted: [10.0.0.0/8]\n  header: X-Real-IP\n  hops: 2\n", []string{"line 4", "holds one value"}},
		{"hops without a peer", "proxies:\n  hops: 2\n", []string{"line 2", "trusted peers too"}},
		{"a header that is none", "proxies: {header: 'a b'}\n", []string{"line 1", "not a name of a header"}},
		{"a peer that is none", "public: {proxy_protocol: [balancer]}\n", []string{"line 1", "or unix"}},
		{"half of TLS", "admin: {tls_key: k.pem}\n", []string{"line 1", "both"}},
		{"a host with a port", "admin: {hosts: ['porch.example:80']}\n", []string{"line 1", "without a port"}},
		{"a limit", "limits: {key_per_second: 0}\n", []string{"line 1", "1 to 1000000"}},
		{"a bound", "public: {max_body_bytes: 3}\n", []string{"line 1", "1024"}},
		{"a language", "sites:\n  - host: a\n    languages: [en, '!']\n", []string{"line 3", "not a language tag"}},
		{"a default that is not offered", "sites:\n  - host: a\n    languages: [en]\n    default_language: pt\n", []string{"line 4", "not one of the languages"}},
		{"a currency", "sites:\n  - {host: a, currency: EU}\n", []string{"line 2", "not a currency of ISO 4217"}},
		{"a price ending", "sites:\n  - host: a\n    price_endings: {EUR: '95'}\n", []string{"line 3", "such as x.95"}},
		{"business hours", "sites:\n  - {host: a, business_hours: 9-5}\n", []string{"line 2", "09:00-17:00"}},
		{"a country of a group", "groups:\n  isles:\n    - IE\n    - UK\n", []string{"line 4", "did you mean GB?"}},
		{"a group that there is", "groups: {eu: [PT]}\n", []string{"line 1", "give yours another name"}},
		{"a country of a rule", "sites:\n  - host: a\n    variants:\n      - name: offer\n        default: open\n        rules:\n          - {variant: early, countries: [UK]}\n", []string{"line 7", "did you mean GB?"}},
		{"a group of a rule", "sites:\n  - host: a\n    variants: [{name: offer, default: open, rules: [{variant: early, groups: [nordic]}]}]\n", []string{"line 3", "known are [eea eu euro-area schengen]"}},
		{"a set twice", "sites:\n  - host: a\n    variants: [{name: offer, default: a}, {name: offer, default: b}]\n", []string{"line 3", "two sets are called"}},
		{"rates from two places", "rates: {file: a, url: 'http://b'}\n", []string{"line 1", "Give one of them"}},
		{"rates from nowhere", "rates: {url: 'ftp://b'}\n", []string{"line 1", "https://"}},
		{"rates too often", "rates: {refresh: 1s}\n", []string{"line 1", "1m to 720h"}},
		{"a cookie for ever", "handover: {cookie_lasts: 9000h}\n", []string{"line 1", "1m to 24h"}},
		{"broken YAML", "a: [\n", []string{"eastporch.yaml", "Mend the YAML"}},
		{"a list for a file", "- a\n", []string{"mapping of keys"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := load(t, tt.text, nil, nil)
			var problems Problems
			require.ErrorAs(t, err, &problems)
			for _, part := range tt.want {
				assert.Contains(t, err.Error(), part)
			}
		})
	}
	_, err := load(t, "", map[string]string{"EASTPORCH_LOG_LEVEL": "loud"}, nil)
	assert.ErrorContains(t, err, "variable EASTPORCH_LOG_LEVEL")
	_, err = load(t, "", nil, map[string]any{"log.level": "loud"})
	assert.ErrorContains(t, err, "flag --log-level")
	_, err = Load(Input{File: "/nowhere.yaml", Getenv: func(string) string { return "" }})
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestLabelsAndFinder(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "eastporch.yaml")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "office.txt"), []byte("# ours\n192.0.2.0/28 # ground floor\n\n2001:db8:ff::/48\n"), 0o600))
	require.NoError(t, os.WriteFile(file, []byte("sites: [{host: localhost}]\nlabels: {office: ['file:office.txt'], balancers: [203.0.113.0/28]}\nproxies: {trusted: ['label:balancers', unix], header: forwarded}\n"), 0o600))
	in := Input{File: file, Getenv: func(string) string { return "" }}
	c, err := Load(in)
	require.NoError(t, err)
	sets, err := c.LabelSets(in)
	require.NoError(t, err)
	assert.Equal(t, []string{"office"}, addr.NewLabels(sets).Of(netip.MustParseAddr("192.0.2.7")))
	assert.Empty(t, addr.NewLabels(sets).Of(netip.MustParseAddr("192.0.2.17")))
	f, err := c.Finder(sets)
	require.NoError(t, err)
	assert.Equal(t, "Forwarded", f.Header())
	assert.True(t, f.Trusts(netip.Addr{}))
	assert.True(t, f.Trusts(netip.MustParseAddr("203.0.113.4")))
	assert.False(t, f.Trusts(netip.MustParseAddr("192.0.2.7")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "office.txt"), []byte("192.0.2.0/28\nnonsense\n"), 0o600))
	_, err = c.LabelSets(in)
	assert.ErrorContains(t, err, "office.txt line 2")
}
