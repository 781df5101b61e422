package mrt

import (
	"encoding/binary"
	"net/netip"
)

// A Writer makes dumps, for tests and stand-ins: it appends records to a buffer.
type Writer struct{ Buffer []byte }

// A Path is the route of one peer: the AS numbers from the peer to the origin, or a set at the end
// where Set says so.
type Path struct {
	Peer uint16
	AS   []uint32
	Set  bool
	ID   uint32 // of an additional path
}

// Record appends a record of any type.
func (w *Writer) Record(kind, sub uint16, body []byte) {
	w.Buffer = binary.BigEndian.AppendUint32(w.Buffer, 1_795_000_000)
	w.Buffer = binary.BigEndian.AppendUint16(w.Buffer, kind)
	w.Buffer = binary.BigEndian.AppendUint16(w.Buffer, sub)
	w.Buffer = binary.BigEndian.AppendUint32(w.Buffer, uint32(len(body)))
	w.Buffer = append(w.Buffer, body...)
}

// Peers appends a table of n peers.
func (w *Writer) Peers(n int) {
	body := append([]byte{192, 0, 2, 1, 0, 4}, "lake"...)
	body = binary.BigEndian.AppendUint16(body, uint16(n))
	for i := range n {
		body = append(body, 2, 192, 0, 2, 1, 192, 0, 2, byte(i)) // four bytes for the AS number, IPv4
		body = binary.BigEndian.AppendUint32(body, 64496)
	}
	w.Record(tableDump2, peerIndex, body)
}

// Route appends the routes of a prefix; added has it use additional paths (RFC 8050).
func (w *Writer) Route(p netip.Prefix, added bool, paths ...Path) {
	sub := uint16(unicast4)
	if p.Addr().Is6() {
		sub = unicast6
	}
	if added {
		sub += added4 - unicast4
	}
	body := append(make([]byte, 4, 64+48*len(paths)), byte(p.Bits()))
	body = append(body, p.Addr().AsSlice()[:(p.Bits()+7)/8]...)
	body = binary.BigEndian.AppendUint16(body, uint16(len(paths)))
	for _, path := range paths {
		body = binary.BigEndian.AppendUint16(body, path.Peer)
		body = append(body, 0, 0, 0, 0)
		if added {
			body = binary.BigEndian.AppendUint32(body, path.ID)
		}
		segments := make([]byte, 0, 64)
		segment := func(kind byte, list []uint32) {
			if len(list) == 0 {
				return
			}
			segments = append(segments, kind, byte(len(list)))
			for _, as := range list {
				segments = binary.BigEndian.AppendUint32(segments, as)
			}
		}
		if path.Set {
			segment(2, path.AS[:len(path.AS)-1])
			segment(1, path.AS[len(path.AS)-1:])
		} else {
			segment(2, path.AS)
		}
		attributes := []byte{0x40, 1, 1, 0} // the origin: IGP
		attributes = append(attributes, 0x50, 2)
		attributes = binary.BigEndian.AppendUint16(attributes, uint16(len(segments)))
		attributes = append(attributes, segments...)
		attributes = append(attributes, 0x40, 3, 4, 192, 0, 2, 1) // the next hop
		body = binary.BigEndian.AppendUint16(body, uint16(len(attributes)))
		body = append(body, attributes...)
	}
	w.Record(tableDump2, sub, body)
}
