package gather

import (
	"encoding/pem"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"eastporch/internal/core/rpki"
)

// anchors is the directory, within that of an RPKI, of the certificates that are trusted.
const anchors = "trust-anchors"

// Certificates reads a directory of an RPKI that was fetched and validated by somebody else: trust
// anchors in trust-anchors, and anywhere else certificates (.cer) and lists of revoked ones (.crl),
// each in DER or PEM. The error names the file, or says that nothing is trusted.
func Certificates(dir string) (*rpki.Directory, error) {
	d := &rpki.Directory{}
	err := filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		kind := filepath.Ext(path)
		if err != nil || entry.IsDir() || kind != ".cer" && kind != ".crl" {
			return err
		}
		der, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if block, _ := pem.Decode(der); block != nil {
			der = block.Bytes
		}
		within, _ := filepath.Rel(dir, path)
		switch {
		case kind == ".crl":
			err = d.AddList(der)
		case strings.HasPrefix(within, anchors+string(filepath.Separator)):
			err = d.AddAnchor(der)
		default:
			err = d.AddCert(der)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		return nil
	})
	if err == nil && d.Anchors() == 0 {
		err = fmt.Errorf("%s has no trust anchors: put their certificates (.cer) into %s", dir, filepath.Join(dir, anchors))
	}
	return d, err
}
