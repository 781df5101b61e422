package rpki_test

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/rpki"
	"eastporch/internal/testkit/rpkimade"
)

var now = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

const feed = "# invented\n198.18.3.0/24,PT,PT-11,Lisbon,\n\n198.18.4.0/24,ES,,,\n"

// tree is a trust anchor, an authority and who signs feeds.
type tree struct{ anchor, authority, signer *rpkimade.Made }

func made(t *testing.T, by *rpkimade.Made, o rpkimade.Options) *rpkimade.Made {
	t.Helper()
	if o.From.IsZero() {
		o.From = now.AddDate(-1, 0, 0)
	}
	if o.Until.IsZero() {
		o.Until = now.AddDate(1, 0, 0)
	}
	m, err := rpkimade.Make(by, o)
	require.NoError(t, err)
	return m
}

func newTree(t *testing.T) tree {
	anchor := made(t, nil, rpkimade.Options{Name: "anchor", CA: true, Prefixes: []string{"0.0.0.0/0", "::/0"}, Serial: 1})
	authority := made(t, anchor, rpkimade.Options{Name: "authority", CA: true, Prefixes: []string{"198.18.0.0/16", "198.19.0.0/16", "2001:db8::/32"}, Serial: 2})
	return tree{anchor, authority, made(t, authority, rpkimade.Options{Name: "signer", Prefixes: []string{"198.18.0.0/16"}, Serial: 3})}
}

// directory has all of a tree, and lists that revoke serials.
func (k tree) directory(t *testing.T, revoked ...int64) *rpki.Directory {
	t.Helper()
	d := &rpki.Directory{}
	require.NoError(t, d.AddAnchor(k.anchor.Cert.Raw))
	require.NoError(t, d.AddCert(k.authority.Cert.Raw))
	for _, by := range []*rpkimade.Made{k.anchor, k.authority} {
		list, err := rpkimade.List(by, now.AddDate(0, 0, -1), now.AddDate(0, 0, 1), revoked...)
		require.NoError(t, err)
		require.NoError(t, d.AddList(list))
	}
	return d
}

func verify(t *testing.T, d *rpki.Directory, by *rpkimade.Made, span string, at time.Time) error {
	t.Helper()
	text, err := rpkimade.Sign(by, feed, span)
	require.NoError(t, err)
	signed, err := rpki.Split([]byte(text))
	require.NoError(t, err)
	return d.Verify(signed, at)
}

func TestSignaturesHoldOnlyWhereAllDoes(t *testing.T) {
	k := newTree(t)
	whole := k.directory(t)
	require.NoError(t, verify(t, whole, k.signer, "198.18.0.0/16", now))
	require.NoError(t, verify(t, whole, k.signer, "198.18.3.0 - 198.18.4.255", now))
	inherits := made(t, k.authority, rpkimade.Options{Name: "inherits", Serial: 4})
	require.NoError(t, verify(t, whole, inherits, "198.18.0.0/15", now), "of two ranges side by side")

	forged := made(t, nil, rpkimade.Options{Name: "forged", CA: true, Prefixes: []string{"0.0.0.0/0"}, Serial: 1})
	other := tree{forged, made(t, forged, rpkimade.Options{Name: "authority", CA: true, Prefixes: []string{"198.18.0.0/16"}, Serial: 2}), nil}
	selfMade := made(t, nil, rpkimade.Options{Name: "self", Prefixes: []string{"198.18.0.0/16"}, Serial: 9})
	wide := made(t, k.authority, rpkimade.Options{Name: "wide", Prefixes: []string{"198.16.0.0/12"}, Serial: 5})
	old := made(t, k.authority, rpkimade.Options{Name: "old", Prefixes: []string{"198.18.0.0/16"}, Serial: 6, Until: now.AddDate(0, 0, -1)})
	early := made(t, k.authority, rpkimade.Options{Name: "early", Prefixes: []string{"198.18.0.0/16"}, Serial: 7, From: now.AddDate(0, 0, 1)})
	noAnchor, noList := &rpki.Directory{}, &rpki.Directory{}
	require.NoError(t, noAnchor.AddCert(k.anchor.Cert.Raw))
	require.NoError(t, noAnchor.AddCert(k.authority.Cert.Raw))
	require.NoError(t, noList.AddAnchor(k.anchor.Cert.Raw))
	require.NoError(t, noList.AddCert(k.authority.Cert.Raw))
	for name, c := range map[string]struct {
		d    *rpki.Directory
		by   *rpkimade.Made
		span string
		at   time.Time
		why  string
	}{
		"another range":              {whole, k.signer, "198.19.0.0/24", now, "does not speak for"},
		"wider than its own":         {whole, k.signer, "198.18.0.0/15", now, "does not speak for"},
		"of the other family":        {whole, k.signer, "2001:db8::/48", now, "does not speak for"},
		"more than the issuer has":   {whole, wide, "198.18.0.0/16", now, "its issuer lacks"},
		"expired":                    {whole, old, "198.18.0.0/16", now, "not valid now"},
		"not yet":                    {whole, early, "198.18.0.0/16", now, "not valid now"},
		"the authority expired":      {whole, k.signer, "198.18.0.0/16", now.AddDate(2, 0, 0), "not valid now"},
		"the signer is revoked":      {k.directory(t, 3), k.signer, "198.18.0.0/16", now, "is revoked"},
		"the authority is revoked":   {k.directory(t, 2), k.signer, "198.18.0.0/16", now, "is revoked"},
		"lists are old":              {whole, k.signer, "198.18.0.0/16", now.AddDate(0, 0, 3), "no current list"},
		"no lists":                   {noList, k.signer, "198.18.0.0/16", now, "no current list"},
		"nothing is trusted":         {noAnchor, k.signer, "198.18.0.0/16", now, "no"},
		"an empty directory":         {&rpki.Directory{}, k.signer, "198.18.0.0/16", now, "leads to no trust anchor"},
		"signed by itself":           {whole, selfMade, "198.18.0.0/16", now, "leads to no trust anchor"},
		"of a tree that is not ours": {whole, made(t, other.authority, rpkimade.Options{Name: "x", Prefixes: []string{"198.18.0.0/16"}, Serial: 8}), "198.18.0.0/16", now, "leads to no trust anchor"},
		"an authority signs":         {whole, k.authority, "198.18.0.0/16", now, "of an authority"},
	} {
		assert.ErrorContains(t, verify(t, c.d, c.by, c.span, c.at), c.why, name)
	}
}

// Whatever is changed in a signed feed, but the ends of its lines and empty lines at its end, the
// signature does not hold; and whatever is damaged, nothing panics.
func TestChangedFeedsDoNotHold(t *testing.T) {
	k := newTree(t)
	d := k.directory(t)
	text, err := rpkimade.Sign(k.signer, feed, "198.18.0.0/16")
	require.NoError(t, err)
	for _, same := range []string{text, strings.ReplaceAll(text, "\n", "\r\n"), strings.Replace(text, "\n# RPKI", "\n\n\n# RPKI", 1)} {
		signed, err := rpki.Split([]byte(same))
		require.NoError(t, err)
		require.NoError(t, d.Verify(signed, now))
	}
	r := rand.New(rand.NewPCG(9632, 5))
	for range 3000 {
		b := []byte(text)
		at, with := r.IntN(len(b)), byte(33+r.IntN(94))
		if b[at] == '\n' || b[at] == with {
			continue
		}
		b[at] = with
		signed, err := rpki.Split(b)
		if err == nil && signed != nil {
			err = d.Verify(signed, now)
		}
		if at < len(feed)-1 {
			require.Error(t, err, "%q", b[:len(feed)])
		}
	}
	none, err := rpki.Split([]byte(feed))
	require.NoError(t, err)
	assert.Nil(t, none)
	for broken, why := range map[string]string{
		"a\n# RPKI Signature: x\n# AA==\n# End Signature: x\n":                       "no range",
		"a\n# RPKI Signature: 198.18.0.0/16\n# AA==\n":                               "no end",
		"a\n# RPKI Signature: 198.18.0.0/16\nAA==\n# End Signature: 198.18.0.0/16\n": "breaks off",
		"a\n# RPKI Signature: 198.18.0.0/16\n# !!\n# End Signature: 198.18.0.0/16\n": "no base64",
	} {
		_, err := rpki.Split([]byte(broken))
		assert.ErrorContains(t, err, why)
	}
	signed, err := rpki.Split([]byte("a\n# RPKI Signature: 198.18.0.0/16\n# AAAA\n# End Signature: 198.18.0.0/16\n"))
	require.NoError(t, err)
	assert.ErrorContains(t, d.Verify(signed, now), "no CMS")
	assert.True(t, netip.MustParsePrefix("198.18.0.0/16").Contains(signed.Range.First))
}
