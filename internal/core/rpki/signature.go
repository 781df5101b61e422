package rpki

import (
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"eastporch/internal/core/addr"
)

// A Signed is a text with a signature at its end (RFC 9632, section 5).
type Signed struct {
	Range   addr.Range // that it is said to be of
	content []byte     // as it was signed: lines end with CRLF, and no empty one stands at the end
	cms     []byte
}

const begins, ends = "# RPKI Signature:", "# End Signature:"

// Split takes a geofeed and its signature apart; signed is nil where it has none. The error says
// why a signature cannot be read.
func Split(text []byte) (signed *Signed, err error) {
	at := bytes.Index(text, []byte("\n"+begins))
	if at < 0 && !bytes.HasPrefix(text, []byte(begins)) {
		return nil, nil
	}
	lines := strings.Split(strings.ReplaceAll(string(text[at+1:]), "\r\n", "\n"), "\n")
	span, err := addr.ParseRange(strings.TrimSpace(strings.TrimPrefix(lines[0], begins)))
	if err != nil {
		return nil, fmt.Errorf("the signature names no range: %w", err)
	}
	var packed strings.Builder
	closed := false
	for _, line := range lines[1:] {
		if strings.HasPrefix(line, ends) {
			closed = true
			break
		}
		rest, ok := strings.CutPrefix(line, "#")
		if !ok && strings.TrimSpace(line) != "" {
			return nil, errors.New("the signature breaks off")
		}
		packed.WriteString(strings.TrimSpace(rest))
	}
	if !closed {
		return nil, errors.New("the signature has no end")
	}
	cms, err := base64.StdEncoding.DecodeString(packed.String())
	if err != nil {
		return nil, errors.New("the signature is no base64")
	}
	content := strings.TrimRight(strings.ReplaceAll(string(text[:at+1]), "\r\n", "\n"), "\n")
	return &Signed{Range: span, content: []byte(strings.ReplaceAll(content, "\n", "\r\n") + "\r\n"), cms: cms}, nil
}

var (
	oidSignedData    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	oidGeofeed       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 16, 1, 47} // id-ct-geofeedCSVwithCRLF
	oidContentType   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 3}
	oidMessageDigest = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 4}
)

type contentInfo struct {
	Type    asn1.ObjectIdentifier
	Content asn1.RawValue `asn1:"explicit,tag:0"`
}

// signedData is that of RFC 5652, section 5.1, with a detached content.
type signedData struct {
	Version      int
	Digests      asn1.RawValue
	Encapsulated struct {
		Type    asn1.ObjectIdentifier
		Content asn1.RawValue `asn1:"optional,explicit,tag:0"`
	}
	Certificates asn1.RawValue `asn1:"optional,tag:0"`
	CRLs         asn1.RawValue `asn1:"optional,tag:1"`
	Signers      []signerInfo  `asn1:"set"`
}

type signerInfo struct {
	Version   int
	SKI       []byte `asn1:"tag:0"`
	Digest    asn1.RawValue
	Signed    asn1.RawValue `asn1:"tag:0"`
	Algorithm asn1.RawValue
	Signature []byte
	Unsigned  asn1.RawValue `asn1:"optional,tag:1"`
}

type attribute struct {
	Type   asn1.ObjectIdentifier
	Values asn1.RawValue `asn1:"set"`
}

var errCMS = errors.New("the signature is no CMS as RFC 9632 has it")

// signer checks that the content was signed by the certificate in the signature, and gives that.
func (s *Signed) signer() (*x509.Certificate, error) {
	var outer contentInfo
	var data signedData
	if rest, err := asn1.Unmarshal(s.cms, &outer); err != nil || len(rest) > 0 || !outer.Type.Equal(oidSignedData) {
		return nil, errCMS
	}
	if rest, err := asn1.Unmarshal(outer.Content.Bytes, &data); err != nil || len(rest) > 0 {
		return nil, errCMS
	}
	if !data.Encapsulated.Type.Equal(oidGeofeed) || len(data.Encapsulated.Content.FullBytes) > 0 || len(data.Signers) != 1 {
		return nil, errCMS
	}
	cert, err := x509.ParseCertificate(data.Certificates.Bytes)
	if err != nil {
		return nil, errCMS // none, several, or one that is damaged
	}
	signer := data.Signers[0]
	if !bytes.Equal(signer.SKI, cert.SubjectKeyId) || len(signer.SKI) == 0 {
		return nil, errors.New("the signature is by another certificate than the one in it")
	}
	digest := sha256.Sum256(s.content)
	var said []byte
	typed := false
	for rest := signer.Signed.Bytes; len(rest) > 0; {
		var a attribute
		if rest, err = asn1.Unmarshal(rest, &a); err != nil {
			return nil, errCMS
		}
		switch {
		case a.Type.Equal(oidMessageDigest):
			if _, err := asn1.Unmarshal(a.Values.Bytes, &said); err != nil {
				return nil, errCMS
			}
		case a.Type.Equal(oidContentType):
			var kind asn1.ObjectIdentifier
			_, err := asn1.Unmarshal(a.Values.Bytes, &kind)
			typed = err == nil && kind.Equal(oidGeofeed)
		}
	}
	if !typed {
		return nil, errCMS
	}
	if !bytes.Equal(said, digest[:]) {
		return nil, errors.New("the feed is not as it was signed")
	}
	attributes := bytes.Clone(signer.Signed.FullBytes)
	attributes[0] = 0x31 // they are signed as a SET (RFC 5652, section 5.4)
	if err := cert.CheckSignature(x509.SHA256WithRSA, attributes, signer.Signature); err != nil {
		return nil, errors.New("the signature is wrong")
	}
	return cert, nil
}
