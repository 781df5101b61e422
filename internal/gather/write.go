package gather

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/rpki"
	"eastporch/internal/files/whole"
)

// notesMost is how many notes of a feed are kept.
const notesMost = 10

// write writes one geofeed of what all feeds may say, and counts what they may not. What is as it
// was is taken from the file as it stands, and that is not written again where it says the same.
func (g *Gatherer) write(path string, feeds map[string]*Feed, referrals []geofeed.Referral) error {
	list := byURL(feeds)
	head := fmt.Appendf(nil, "# Gathered geofeeds (RFC 8805), of each what the ranges that name it hold (RFC 9632); %s\n", g.print(referrals))
	there, err := os.ReadFile(path)
	same := err == nil && bytes.HasPrefix(there, head) // who names what
	parts := make([][]byte, len(list)+1)
	parts[0] = head
	var decider *geofeed.Decider
	decide := sync.OnceFunc(func() { decider = geofeed.Decide(referrals) })
	next := make(chan int)
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := range next {
				f := list[i]
				if same {
					if part := g.part(f, there); part != nil {
						parts[i+1] = part
						continue
					}
				}
				decide()
				parts[i+1] = g.lines(f, decider)
			}
		})
	}
	for i := range list {
		next <- i
	}
	close(next)
	wait.Wait()
	at := len(head)
	for i, f := range list {
		f.Part = Part{From: at, To: at + len(parts[i+1]), Sum: f.Sum, State: f.State, CRC: crc32.Checksum(parts[i+1], castagnoli)}
		at = f.Part.To
	}
	text := slices.Concat(parts...)
	if bytes.Equal(there, text) {
		return nil
	}
	return whole.Write(path, 0o600, text)
}

// print tells by whom feeds are named, and how they are read.
func (g *Gatherer) print(referrals []geofeed.Referral) string {
	sum := sha256.New()
	fmt.Fprint(sum, g.Postal)
	for _, r := range referrals {
		fmt.Fprint(sum, r.Range.Range.String(), " ", r.URL, "\n")
	}
	return hex.EncodeToString(sum.Sum(nil)[:12])
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// part gives the lines of a feed as they stand in the file, nil where they are not those any more.
func (g *Gatherer) part(f *Feed, file []byte) []byte {
	at := f.Part
	if f.Signature != Unsigned && (g.RPKI != nil || f.Signature == Verified) { // which is checked anew each time
		return nil
	}
	if f.Sum == "" || at.Sum != f.Sum || at.State != f.State || g.state(f) != f.State || at.From >= at.To || at.To > len(file) {
		return nil
	}
	if lines := file[at.From:at.To]; crc32.Checksum(lines, castagnoli) == at.CRC {
		return lines
	}
	return nil
}

// signature says how a feed is signed, and gives the signature where it was verified; where one does
// not hold, the feed is refused.
func (g *Gatherer) signature(f *Feed, text []byte) *rpki.Signed {
	f.Signature = Unsigned
	signed, err := rpki.Split(text)
	switch {
	case err == nil && signed == nil:
		return nil
	case g.RPKI == nil:
		f.Signature = Unverified
		return nil
	case err == nil:
		err = g.RPKI.Verify(signed, g.now())
	}
	if err != nil {
		f.Signature, f.Wrong = Unverified, err.Error()
		return nil
	}
	f.Signature = Verified
	return signed
}

// lines gives the lines of a feed that count.
func (g *Gatherer) lines(f *Feed, decider *geofeed.Decider) []byte {
	f.Entries, f.Outside, f.Elsewhere, f.Rejected, f.Notes = 0, 0, 0, 0, []atlas.Note{}
	text := g.read(f)
	if text == nil {
		return nil
	}
	signed := g.signature(f, text)
	if f.Wrong != "" {
		f.State = Refused
		return nil
	}
	note := func(e *source.Entry, reason string) {
		if len(f.Notes) < notesMost {
			f.Notes = append(f.Notes, compile.NoteOf(e.Line, string(e.Text), reason))
		}
	}
	var list []entry
	lines := map[netip.Prefix]int{}
	source.Entries(text, g.Postal, func(e *source.Entry) {
		if first := lines[e.Prefix]; e.Reject == nil && first > 0 {
			e.Reject = fmt.Errorf("the prefix stands on line %d already", first)
		}
		if e.Reject != nil {
			f.Rejected++
			note(e, e.Reject.Error())
			return
		}
		lines[e.Prefix] = e.Line
		if signed != nil && !signed.Covers(addr.RangeOf(e.Prefix)) {
			f.Outside++
			note(e, "the signature does not cover it")
			return
		}
		made := entry{prefix: e.Prefix, place: e.Place}
		whole := addr.RangeOf(e.Prefix)
		parts, inside := decider.Within(f.URL, whole)
		switch {
		case !inside:
			f.Outside++
			note(e, "no range that names this feed holds it")
			return
		case len(parts) != 1 || parts[0] != whole:
			f.Elsewhere++
			note(e, "of all or a part of it a more specific range names another feed")
			made.cut, made.parts = true, parts
		}
		if f.Entries++; made.cut && len(parts) == 0 {
			f.Entries--
		}
		list = append(list, made)
	})
	out := fmt.Appendf(nil, "# %s\n", strings.Join(strings.Fields(f.URL), " "))
	slices.SortFunc(list, func(a, b entry) int { return a.prefix.Compare(b.prefix) }) // the wider before what it holds
	for i, e := range list {
		if !e.cut {
			out = source.AppendEntry(out, e.prefix, &e.place)
			continue
		}
		for _, part := range without(e.parts, within(list[i+1:], e.prefix)) {
			for _, p := range part.Prefixes() {
				out = source.AppendEntry(out, p, &e.place)
			}
		}
	}
	return out
}

// An entry is a line of a feed that counts, or parts of it do.
type entry struct {
	prefix netip.Prefix
	place  atlas.Place
	cut    bool
	parts  []addr.Range // where it is cut
}

// within gives the entries that a prefix holds, of those that follow it in order. A wider entry
// that is cut must not be more specific than they are.
func within(list []entry, p netip.Prefix) []entry {
	n := 0
	for n < len(list) && p.Contains(list[n].prefix.Addr()) {
		n++
	}
	return list[:n]
}

// without cuts entries, in order, out of ranges.
func without(parts []addr.Range, holes []entry) (rest []addr.Range) {
	for _, part := range parts {
		left := true
		for _, h := range holes {
			hole := addr.RangeOf(h.prefix)
			if hole.Last.Less(part.First) || part.Last.Less(hole.First) {
				continue
			}
			if part.First.Less(hole.First) {
				rest = append(rest, addr.Range{First: part.First, Last: hole.First.Prev()})
			}
			if left = hole.Last.Less(part.Last); !left {
				break
			}
			part.First = hole.Last.Next()
		}
		if left {
			rest = append(rest, part)
		}
	}
	return rest
}
