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
	text, _ := Part(zipped)
	return text
}

// Part unpacks the first part, a member by the RFC, of a table of several, and gives the
// others as they are.
func Part(zipped []byte) (text string, others []byte) {
	in := bytes.NewReader(zipped)
	reader, err := gzip.NewReader(in)
	if err != nil {
		panic("packed: " + err.Error())
	}
	reader.Multistream(false)
	unpacked, err := io.ReadAll(reader)
	if err != nil {
		panic("packed: " + err.Error())
	}
	return string(unpacked), zipped[len(zipped)-in.Len():]
}
