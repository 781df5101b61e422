// Package rpkimade makes a small hierarchy of certificates with address resources, and signatures
// of geofeeds, for tests. Nothing in it is anybody's.
package rpkimade

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// A Made is a certificate with its key.
type Made struct {
	Cert *x509.Certificate
	Key  *rsa.PrivateKey
}

// Options say how a certificate is made.
type Options struct {
	Name     string
	CA       bool
	Prefixes []string // its addresses; none is those of its issuer
	From     time.Time
	Until    time.Time
	Serial   int64
}

// Make makes a certificate by an issuer, nil for one that signs itself.
func Make(by *Made, o Options) (*Made, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	ski := sha256.Sum256(key.N.Bytes())
	template := &x509.Certificate{
		SerialNumber: big.NewInt(o.Serial), Subject: pkix.Name{CommonName: o.Name}, NotBefore: o.From, NotAfter: o.Until, SubjectKeyId: ski[:20],
		KeyUsage: x509.KeyUsageDigitalSignature, ExtraExtensions: []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 7}, Critical: true, Value: resources(o.Prefixes)}},
	}
	if o.CA {
		template.IsCA, template.BasicConstraintsValid, template.KeyUsage = true, true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign
	}
	parent, signer := template, key
	if by != nil {
		parent, signer = by.Cert, by.Key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signer)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return &Made{cert, key}, err
}

// List makes a list of revoked certificates.
func List(by *Made, from, until time.Time, serials ...int64) ([]byte, error) {
	list := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: from, NextUpdate: until}
	for _, n := range serials {
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: big.NewInt(n), RevocationTime: from})
	}
	return x509.CreateRevocationList(rand.Reader, list, by.Cert, by.Key)
}

// resources writes the extension IPAddrBlocks (RFC 3779); no prefixes inherit.
func resources(prefixes []string) []byte {
	type family struct {
		Family []byte
		Choice asn1.RawValue
	}
	var families []family
	for i, kind := range [][]byte{{0, 1}, {0, 2}} {
		var list []byte
		for _, text := range prefixes {
			p := netip.MustParsePrefix(text)
			if p.Addr().Is4() != (i == 0) {
				continue
			}
			der, _ := asn1.Marshal(asn1.BitString{Bytes: p.Addr().AsSlice()[:(p.Bits()+7)/8], BitLength: p.Bits()})
			list = append(list, der...)
		}
		switch {
		case prefixes == nil:
			families = append(families, family{kind, asn1.RawValue{Tag: asn1.TagNull}})
		case len(list) > 0:
			families = append(families, family{kind, asn1.RawValue{Tag: asn1.TagSequence, IsCompound: true, Bytes: list}})
		}
	}
	der, _ := asn1.Marshal(families)
	return der
}

var (
	oidSHA256 = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
	oidRSA    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 1}
	oidFeed   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 1, 47}
)

// Sign gives a geofeed with a signature at its end (RFC 9632, section 5), of a range.
func Sign(by *Made, feed, span string) (string, error) {
	content := strings.ReplaceAll(strings.TrimRight(feed, "\n"), "\n", "\r\n") + "\r\n"
	digest := sha256.Sum256([]byte(content))
	attribute := func(kind asn1.ObjectIdentifier, value any) []byte {
		inner, _ := asn1.Marshal(value)
		der, _ := asn1.Marshal(struct {
			Type   asn1.ObjectIdentifier
			Values asn1.RawValue
		}{kind, asn1.RawValue{Tag: asn1.TagSet, IsCompound: true, Bytes: inner}})
		return der
	}
	list := [][]byte{
		attribute(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 3}, oidFeed),
		attribute(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 4}, digest[:]),
	}
	slices.SortFunc(list, bytes.Compare)
	attributes := bytes.Join(list, nil)
	set, err := asn1.Marshal(asn1.RawValue{Tag: asn1.TagSet, IsCompound: true, Bytes: attributes})
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(set)
	signature, err := rsa.SignPKCS1v15(rand.Reader, by.Key, crypto.SHA256, sum[:])
	if err != nil {
		return "", err
	}
	type algorithm struct{ Algorithm asn1.ObjectIdentifier }
	der, err := asn1.Marshal(struct {
		Type    asn1.ObjectIdentifier
		Content any `asn1:"explicit,tag:0"`
	}{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}, struct {
		Version      int
		Digests      []algorithm `asn1:"set"`
		Encapsulated struct{ Type asn1.ObjectIdentifier }
		Certificates asn1.RawValue
		Signers      []any `asn1:"set"`
	}{
		3,
		[]algorithm{{oidSHA256}},
		struct{ Type asn1.ObjectIdentifier }{oidFeed},
		asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: by.Cert.Raw},
		[]any{struct {
			Version   int
			SKI       []byte `asn1:"tag:0"`
			Digest    algorithm
			Signed    asn1.RawValue
			Algorithm algorithm
			Signature []byte
		}{3, by.Cert.SubjectKeyId, algorithm{oidSHA256}, asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: attributes}, algorithm{oidRSA}, signature}},
	}})
	if err != nil {
		return "", err
	}
	text := strings.TrimRight(feed, "\n") + fmt.Sprintf("\n# RPKI Signature: %s\n", span)
	packed := base64.StdEncoding.EncodeToString(der)
	for ; len(packed) > 70; packed = packed[70:] {
		text += "# " + packed[:70] + "\n"
	}
	return text + "# " + packed + fmt.Sprintf("\n# End Signature: %s\n", span), nil
}
