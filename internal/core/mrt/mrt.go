// Package mrt reads dumps of routing tables: TABLE_DUMP_V2 of MRT (RFC 6396), with additional
// paths (RFC 8050). Of each prefix it tells which autonomous systems originate it, by how many
// peers see it.
package mrt

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
)

// A Route is a prefix of a dump.
type Route struct {
	Record  int // its number in the dump, from 1
	Prefix  netip.Prefix
	Peers   int      // that see it
	Origins []Origin // what most peers see first, of as many the lower number
	// Reserved counts the peers that see an origin which is reserved or private, and Unclear those
	// whose path ends in a set, or has no end.
	Reserved, Unclear int
}

// An Origin is an autonomous system, and how many peers see the prefix originate there.
type Origin struct {
	AS    uint32
	Peers int
}

// Stats is what was read of a dump.
type Stats struct {
	Records int
	Peers   int            // of the last table of peers
	Passed  map[string]int // records that are none of a table of routes, by why
	Broken  int            // records of routes that do not hold what they say
}

// ErrNotMRT is wrapped where a file is no dump, ErrCut where it ends in the middle of a record.
var (
	ErrNotMRT = errors.New("this is no MRT dump")
	ErrCut    = errors.New("the dump ends in the middle of a record")
)

// maxRecord bounds a record, in bytes.
const maxRecord = 64 << 20

// Types and subtypes (RFC 6396, section 4; RFC 8050, section 4).
const (
	tableDump2 = 13
	peerIndex  = 1
	unicast4   = 2
	unicast6   = 4
	added4     = 8
	added6     = 10
)

// Read reads a dump and calls do for every prefix, in the dump's order; the Route is good until
// the next. documentation says whether AS numbers for documentation (RFC 5398) count. The error
// wraps [ErrNotMRT] or [ErrCut], or is that of r; what came before it was handed to do.
func Read(r io.Reader, documentation bool, do func(*Route)) (stats Stats, err error) {
	// Records that say nothing are only counted: a small packed file may hold very many.
	passed, unseen := map[[2]uint16]int{}, 0 // the first by type and subtype
	defer func() {
		if stats.Passed = passedWords(passed); unseen > 0 {
			stats.Passed["prefixes that no peer sees"] = unseen
		}
	}()
	in := bufio.NewReaderSize(r, 64<<10)
	d := &decoder{documentation: documentation}
	var head [12]byte
	var body []byte
	for {
		if _, err := io.ReadFull(in, head[:]); err != nil {
			switch {
			case errors.Is(err, io.EOF) && stats.Records > 0:
				return stats, nil
			case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF) && stats.Records == 0:
				return stats, fmt.Errorf("%w: it is too short", ErrNotMRT)
			case errors.Is(err, io.ErrUnexpectedEOF):
				return stats, fmt.Errorf("%w, after %d records", ErrCut, stats.Records)
			}
			return stats, err
		}
		kind, sub := binary.BigEndian.Uint16(head[4:]), binary.BigEndian.Uint16(head[6:])
		size := binary.BigEndian.Uint32(head[8:])
		if size > maxRecord || stats.Records == 0 && (kind == 0 || kind > 64) {
			if stats.Records == 0 {
				return stats, fmt.Errorf("%w: its first record has type %d and %d bytes", ErrNotMRT, kind, size)
			}
			return stats, fmt.Errorf("%w: record %d has %d bytes", ErrCut, stats.Records+1, size)
		}
		if cap(body) < int(size) {
			body = make([]byte, size)
		}
		body = body[:size]
		if n, err := io.ReadFull(in, body); err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return stats, fmt.Errorf("%w: record %d has %d bytes of %d", ErrCut, stats.Records+1, n, size)
			}
			return stats, err
		}
		stats.Records++
		d.route.Record = stats.Records
		switch {
		case kind != tableDump2:
			passed[[2]uint16{kind}]++
		case sub == peerIndex:
			if n, ok := peersOf(body); ok {
				stats.Peers = n
			} else {
				stats.Broken++
			}
		case sub == unicast4 || sub == unicast6 || sub == added4 || sub == added6:
			if !d.rib(body, sub == unicast4 || sub == added4, sub == added4 || sub == added6) {
				stats.Broken++
				continue
			}
			if d.entries == 0 {
				unseen++
				continue
			}
			do(&d.route)
		default:
			passed[[2]uint16{kind, sub}]++
		}
	}
}

func passedWords(passed map[[2]uint16]int) map[string]int {
	words := make(map[string]int, len(passed))
	for of, n := range passed {
		if of[0] == tableDump2 {
			words[fmt.Sprintf("records of TABLE_DUMP_V2 of subtype %d", of[1])] += n
		} else {
			words[fmt.Sprintf("records of type %d", of[0])] += n
		}
	}
	return words
}

// peersOf counts the peers of a PEER_INDEX_TABLE.
func peersOf(b []byte) (n int, ok bool) {
	if len(b) < 6 {
		return 0, false
	}
	name := int(binary.BigEndian.Uint16(b[4:]))
	if len(b) < 6+name+2 {
		return 0, false
	}
	return int(binary.BigEndian.Uint16(b[6+name:])), true
}

type decoder struct {
	documentation bool
	route         Route
	entries       int // of the prefix, whatever they say
	votes         []vote
}

type vote struct {
	peer uint16
	as   uint32
}

// rib reads the routes of one prefix.
func (d *decoder) rib(b []byte, is4, added bool) (ok bool) {
	r := &d.route
	r.Peers, r.Reserved, r.Unclear, r.Origins, d.votes = 0, 0, 0, r.Origins[:0], d.votes[:0]
	if len(b) < 5 {
		return false
	}
	bits := int(b[4])
	size := (bits + 7) / 8
	if most := 128; bits > most || is4 && bits > 32 || len(b) < 5+size+2 {
		return false
	}
	var a netip.Addr
	if is4 {
		var raw [4]byte
		copy(raw[:], b[5:5+size])
		a = netip.AddrFrom4(raw)
	} else {
		var raw [16]byte
		copy(raw[:], b[5:5+size])
		a = netip.AddrFrom16(raw)
	}
	r.Prefix = netip.PrefixFrom(a, bits).Masked()
	b = b[5+size:]
	count := int(binary.BigEndian.Uint16(b))
	b, d.entries = b[2:], count
	for range count {
		head := 8
		if added {
			head = 12
		}
		if len(b) < head {
			return false
		}
		peer, size := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[head-2:]))
		if len(b) < head+size {
			return false
		}
		as, clear := originOf(b[head : head+size])
		b = b[head+size:]
		switch {
		case !clear:
			r.Unclear++
		case d.reserved(as):
			r.Reserved++
		default:
			d.votes = append(d.votes, vote{peer, as})
		}
	}
	d.count()
	return true
}

// count counts votes, of a peer one for each origin.
func (d *decoder) count() {
	r := &d.route
	for i, v := range d.votes {
		if d.hasVoted(i) {
			continue
		}
		r.Peers++
		at := slices.IndexFunc(r.Origins, func(o Origin) bool { return o.AS == v.as })
		if at < 0 {
			at = len(r.Origins)
			r.Origins = append(r.Origins, Origin{AS: v.as})
		}
		r.Origins[at].Peers++
	}
	if len(r.Origins) > 1 {
		slices.SortFunc(r.Origins, func(a, b Origin) int { return cmp.Or(b.Peers-a.Peers, cmp.Compare(a.AS, b.AS)) })
	}
}

// hasVoted says whether vote i stands before it already. The paths of a peer stand together.
func (d *decoder) hasVoted(i int) bool {
	for j := i - 1; j >= 0 && d.votes[j].peer == d.votes[i].peer; j-- {
		if d.votes[j].as == d.votes[i].as {
			return true
		}
	}
	return false
}

// originOf finds the last AS of the path among attributes (RFC 4271, section 4.3; AS numbers have
// four bytes here, RFC 6396, section 4.3.4). clear is false where the path ends in a set or is empty.
func originOf(b []byte) (as uint32, clear bool) {
	for len(b) >= 3 {
		flags, kind := b[0], b[1]
		size, head := int(b[2]), 3
		if flags&0x10 != 0 {
			if len(b) < 4 {
				return 0, false
			}
			size, head = int(binary.BigEndian.Uint16(b[2:])), 4
		}
		if len(b) < head+size {
			return 0, false
		}
		value := b[head : head+size]
		b = b[head+size:]
		if kind != 2 {
			continue
		}
		for len(value) >= 2 {
			segment, n := value[0], int(value[1])
			if len(value) < 2+4*n {
				return 0, false
			}
			if n > 0 {
				as, clear = binary.BigEndian.Uint32(value[2+4*(n-1):]), segment == 2
			}
			value = value[2+4*n:]
		}
		return as, clear && len(value) == 0
	}
	return 0, false
}

// reserved says whether an AS number is of nobody: private (RFC 6996), reserved (RFC 7607, RFC
// 6793, RFC 7300, and 65552 to 131071 by the IANA registry of AS numbers) or for documentation (RFC 5398).
func (d *decoder) reserved(as uint32) bool {
	switch {
	case as == 0, as == 23456, as == 65535, as == 1<<32-1, as >= 64512 && as <= 65534, as >= 65552 && as <= 131071, as >= 4_200_000_000:
		return true
	case as >= 64496 && as <= 64511, as >= 65536 && as <= 65551:
		return !d.documentation
	}
	return false
}
