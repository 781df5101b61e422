// Package packed unpacks the generated tables that are embedded in the binary.
package packed

import (
	"bytes"
	"compress/gzip"
	"io"
)

// Text unpacks a table that was compressed with gzip (RFC 1952). It panics where it
// cannot: the table is part of the program.
func Text(zipped []byte) string {
	reader, err := gzip.NewReader(bytes.NewReader(zipped))
	if err != nil {
		panic("packed: " + err.Error())
	}
	text, err := io.ReadAll(reader)
	if err != nil {
		panic("packed: " + err.Error())
	}
	return string(text)
}
