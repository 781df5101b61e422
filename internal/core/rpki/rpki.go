// Package rpki checks signatures of geofeeds (RFC 9632, section 5) against certificates of the
// Resource Public Key Infrastructure (RFC 6487) that somebody else has fetched and validated.
package rpki

import (
	"bytes"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"eastporch/internal/core/addr"
)

// A Directory has certificates, lists of revoked ones, and which of the certificates are trust
// anchors. It is immutable and safe for concurrent use once it is filled.
type Directory struct {
	anchors, certs []*x509.Certificate
	lists          []*x509.RevocationList
}

// AddAnchor adds a trust anchor, AddCert another certificate, AddList a list of revoked ones, each
// in DER. The error says why one cannot be read.
func (d *Directory) AddAnchor(der []byte) error {
	cert, err := x509.ParseCertificate(der)
	if err == nil {
		d.anchors = append(d.anchors, cert)
	}
	return err
}

// AddCert is described at [Directory.AddAnchor].
func (d *Directory) AddCert(der []byte) error {
	cert, err := x509.ParseCertificate(der)
	if err == nil {
		d.certs = append(d.certs, cert)
	}
	return err
}

// AddList is described at [Directory.AddAnchor].
func (d *Directory) AddList(der []byte) error {
	list, err := x509.ParseRevocationList(der)
	if err == nil {
		d.lists = append(d.lists, list)
	}
	return err
}

// Anchors is how many trust anchors there are.
func (d *Directory) Anchors() int { return len(d.anchors) }

// longestChain bounds how many certificates stand between a signature and its anchor.
const longestChain = 12

// Verify says why a signature does not hold at a time, nil where it does: the feed is as it was
// signed; the certificate leads to a trust anchor, by certificates each of which is valid then, not
// revoked by a current list, and has no addresses that its issuer lacks; and the range that was
// signed is among its addresses.
func (d *Directory) Verify(s *Signed, at time.Time) error {
	cert, err := s.signer()
	if err != nil {
		return err
	}
	if cert.IsCA {
		return errors.New("the signature is by a certificate of an authority")
	}
	chain, err := d.chain(cert, at)
	if err != nil {
		return err
	}
	resources, err := effective(chain)
	if err != nil {
		return err
	}
	if !resources.within(s.Range) {
		return fmt.Errorf("its certificate does not speak for %s", s.Range)
	}
	return nil
}

// chain gives the certificates from one to its anchor.
func (d *Directory) chain(cert *x509.Certificate, at time.Time) (chain []*x509.Certificate, err error) {
	for range longestChain {
		chain = append(chain, cert)
		if at.Before(cert.NotBefore) || at.After(cert.NotAfter) {
			return nil, fmt.Errorf("the certificate %s is not valid now", nameOf(cert))
		}
		for _, anchor := range d.anchors {
			if bytes.Equal(anchor.Raw, cert.Raw) {
				if err := cert.CheckSignatureFrom(cert); err != nil {
					return nil, fmt.Errorf("the trust anchor %s does not hold", nameOf(cert))
				}
				return chain, nil
			}
		}
		issuer := d.issuerOf(cert)
		if issuer == nil {
			return nil, fmt.Errorf("the certificate %s leads to no trust anchor", nameOf(cert))
		}
		if err := d.revoked(cert, issuer, at); err != nil {
			return nil, err
		}
		cert = issuer
	}
	return nil, errors.New("its chain of certificates is too long")
}

func nameOf(cert *x509.Certificate) string { return fmt.Sprintf("%.60q", cert.Subject.CommonName) }

// issuerOf finds who has signed a certificate; one that has signed itself has no issuer.
func (d *Directory) issuerOf(cert *x509.Certificate) *x509.Certificate {
	for _, list := range [][]*x509.Certificate{d.anchors, d.certs} {
		for _, issuer := range list {
			if bytes.Equal(issuer.SubjectKeyId, cert.AuthorityKeyId) && len(cert.AuthorityKeyId) > 0 && !bytes.Equal(issuer.Raw, cert.Raw) && cert.CheckSignatureFrom(issuer) == nil {
				return issuer
			}
		}
	}
	return nil
}

// revoked says whether a certificate is, or that no current list tells.
func (d *Directory) revoked(cert, issuer *x509.Certificate, at time.Time) error {
	known := false
	for _, list := range d.lists {
		if list.CheckSignatureFrom(issuer) != nil || at.After(list.NextUpdate) || at.Before(list.ThisUpdate) {
			continue
		}
		known = true
		for _, entry := range list.RevokedCertificateEntries {
			if entry.SerialNumber.Cmp(cert.SerialNumber) == 0 {
				return fmt.Errorf("the certificate %s is revoked", nameOf(cert))
			}
		}
	}
	if !known {
		return fmt.Errorf("no current list tells whether the certificate %s is revoked", nameOf(cert))
	}
	return nil
}

// effective are the addresses of the first certificate of a chain, none of which its issuers lack.
func effective(chain []*x509.Certificate) (have Resources, err error) {
	for i := len(chain) - 1; i >= 0; i-- {
		own := Resources{}
		for _, e := range chain[i].Extensions {
			if e.Id.Equal(oidResources) {
				if own, err = parseResources(e.Value); err != nil {
					return have, err
				}
			}
		}
		if i == len(chain)-1 && (own.Inherit4 || own.Inherit6) {
			return have, errResources
		}
		for _, r := range own.Ranges {
			if i < len(chain)-1 && !have.within(r) {
				return have, fmt.Errorf("the certificate %s has addresses that its issuer lacks: %s", nameOf(chain[i]), r)
			}
		}
		for _, r := range have.Ranges {
			if r.First.Is4() && own.Inherit4 || r.First.Is6() && own.Inherit6 {
				own.Ranges = append(own.Ranges, r)
			}
		}
		have = Resources{Ranges: own.Ranges}
	}
	return have, nil
}

// Covers says whether the range that was signed holds another.
func (s *Signed) Covers(r addr.Range) bool {
	return s.Range.Contains(r.First) && s.Range.Contains(r.Last)
}
