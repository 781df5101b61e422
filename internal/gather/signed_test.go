package gather

import (
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/rpkimade"
)

// Signed feeds, against a directory as an owner has it: verified, refused, and neither where there
// is no directory.
func TestSignedFeeds(t *testing.T) {
	n := newNetwork(t)
	from, until := n.now.AddDate(-1, 0, 0), n.now.AddDate(0, 0, 20)
	makeOne := func(by *rpkimade.Made, name string, ca bool, serial int64, prefixes ...string) *rpkimade.Made {
		m, err := rpkimade.Make(by, rpkimade.Options{Name: name, CA: ca, Prefixes: prefixes, From: from, Until: until, Serial: serial})
		require.NoError(t, err)
		return m
	}
	anchor := makeOne(nil, "anchor", true, 1, "0.0.0.0/0")
	authority := makeOne(anchor, "authority", true, 2, "198.18.0.0/15")
	signer := makeOne(authority, "signer", false, 3, "198.18.0.0/16")
	forger := makeOne(nil, "forger", false, 3, "198.18.0.0/16")

	dir := t.TempDir()
	_, err := Certificates(dir)
	require.ErrorContains(t, err, "no trust anchors")
	put := func(name string, der []byte) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, der, 0o644))
	}
	put("trust-anchors/anchor.cer", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: anchor.Cert.Raw}))
	put("rsync/lake.example/authority.cer", authority.Cert.Raw)
	for i, by := range []*rpkimade.Made{anchor, authority} {
		list, err := rpkimade.List(by, from, until)
		require.NoError(t, err)
		put([]string{"anchor.crl", "rsync/lake.example/authority.crl"}[i], list)
	}
	sign := func(by *rpkimade.Made, span, text string) string {
		signed, err := rpkimade.Sign(by, text, span)
		require.NoError(t, err)
		return signed
	}
	text := "198.18.0.0/24,PT,PT-11,Lisbon,\n198.18.1.0/24,ES,,,\n"
	n.text("/good", sign(signer, "198.18.0.0/24", text))
	n.text("/forged", sign(forger, "198.18.0.0/16", text))
	n.text("/changed", strings.Replace(sign(signer, "198.18.0.0/16", text), "Lisbon", "Lagos", 1))
	n.text("/plain", text)
	list := n.names(t, "198.18.0.0/16 /good", "198.18.0.0/16 /forged", "198.18.0.0/16 /changed", "198.18.0.0/16 /plain")
	for i := range list { // so that each speaks
		n.asked = map[string]int{}
		one := list[i : i+1]
		g := n.gatherer()
		g.Dir = t.TempDir()
		_, feeds := run(t, g, one)
		path := strings.TrimPrefix(one[0].URL, n.URL)
		want := Unverified
		if path == "/plain" {
			want = Unsigned
		}
		assert.Equal(t, []any{want, Used, 2}, []any{feeds[path].Signature, feeds[path].State, feeds[path].Entries}, "without a directory: %s", path)

		g.RPKI, err = Certificates(dir)
		require.NoError(t, err)
		gathered, feeds := run(t, g, one)
		f := feeds[path]
		switch path {
		case "/good":
			assert.Equal(t, []any{Verified, Used, 1, 1}, []any{f.Signature, f.State, f.Entries, f.Outside}, "what the signature does not cover does not count")
			assert.NotContains(t, gathered, "198.18.1.0")
			before := n.now
			n.now = until.AddDate(0, 0, 1)
			g.Client.Inside = true
			gathered, feeds = run(t, g, one)
			assert.Equal(t, Refused, feeds[path].State, "its certificate has expired")
			assert.Contains(t, feeds[path].Wrong, "not valid now")
			assert.NotContains(t, gathered, "198.18.0.0")
			n.now = before
		case "/plain":
			assert.Equal(t, []any{Unsigned, Used, 2}, []any{f.Signature, f.State, f.Entries})
		default:
			assert.Equal(t, []any{Unverified, Refused, 0}, []any{f.Signature, f.State, f.Entries}, path)
			assert.NotEmpty(t, f.Wrong)
			assert.NotContains(t, gathered, "198.18.0.0")
			g.RPKI = nil
			_, feeds = run(t, g, one)
			assert.Equal(t, []any{Unverified, Used, 2}, []any{feeds[path].Signature, feeds[path].State, feeds[path].Entries}, "the directory is gone")
		}
	}
	put("broken.cer", []byte("no certificate"))
	_, err = Certificates(dir)
	assert.ErrorContains(t, err, "broken.cer")
}
