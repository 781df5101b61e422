package addr

import (
	"errors"
	"io"
	"net/netip"
	"strings"
)

// A Found is something in a text that is an address or prefix, or looks like
// one and is none.
type Found struct {
	Offset int64 // of its first byte in the text
	Line   int   // counted from 1
	Text   string
	// Prefix is the address as a prefix of full length, or the prefix that
	// stands there; invalid where Reason says why it is none.
	Prefix netip.Prefix
	// Other is a second reading that is as good as the first, where there is
	// one: 2001:db8::5:8080 may end in a port.
	Other  netip.Prefix
	Note   string // how it is written where that is unusual, and what Other is
	Reason string
}

// maxRun bounds a run of bytes that may be an address; longer ones are none.
const maxRun = 128

// blockSize is how much of a text is read at a time, context how much before
// a run still tells what it is.
const blockSize, context = 64 << 10, 64

// lookAhead is how much behind a run tells what it is: .in-addr.arpa.
const lookAhead = 16

// Find calls found for every address and prefix in a text of any size, and for
// every look-alike with the reason, in order. It also reads addresses that are
// percent-encoded (RFC 3986) or escaped in JSON (RFC 8259), reverse names (RFC
// 1035, RFC 3596), and addresses defanged as 192.0.2[.]85. It reads as it goes
// and keeps at most some 64 KB. It stops at an error of r or of found and gives
// it back.
func Find(r io.Reader, found func(Found) error) error {
	f := finder{found: found, line: 1}
	buffer, from := make([]byte, 0, blockSize), 0
	for {
		n, err := r.Read(buffer[len(buffer):cap(buffer)])
		buffer = buffer[:len(buffer)+n]
		end := err != nil
		used, problem := f.scan(buffer, from, end)
		if problem != nil {
			return problem
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		keep := max(used-context, 0)
		f.offset += int64(keep)
		buffer, from = buffer[:copy(buffer, buffer[keep:])], used-keep
	}
}

// Classes of bytes.
const (
	classOther  byte = iota
	classWord        // letters and digits that no address has, and _
	classRun         // what addresses are made of
	classEscape      // what may begin an escape
)

var classes = func() (table [256]byte) {
	for c := range table {
		b := byte(c)
		switch {
		case isHex(b) || b == '.' || b == ':' || b == '/':
			table[c] = classRun
		case b >= 'g' && b <= 'z' || b >= 'G' && b <= 'Z' || b == '_':
			table[c] = classWord
		case strings.IndexByte("%\\[({", b) >= 0:
			table[c] = classEscape
		}
	}
	return table
}()

type finder struct {
	found  func(Found) error
	offset int64 // of the buffer
	line   int
	last   byte // before what is looked at
	inside bool // a run that was too long goes on
	// The run that is looked at without its escapes, and where each of its
	// bytes begins and ends in the buffer.
	run         []byte
	begin, stop []int
}

// scan looks at text from a place on and gives how much of it is done with; at
// the end all is.
func (f *finder) scan(text []byte, from int, end bool) (used int, err error) {
	for i := from; i < len(text); {
		c, width := text[i], 1
		class := classes[c]
		if class == classEscape {
			if !end && i+lookAhead > len(text) {
				return i, nil
			}
			c, width = unescape(text[i:], f.last)
			class = classes[c]
		}
		if class == classRun {
			if f.inside {
				f.last, i = c, i+width
				continue
			}
			if next, dull := dullRun(text, i); dull {
				f.last, i = text[next-1], next
				continue
			}
			next, ok := f.collect(text, i, end)
			if !ok {
				return i, nil // it may go on, or what follows may tell
			}
			f.inside = len(f.run) > maxRun
			if err := f.judgeRun(text, next); err != nil {
				return i, err
			}
			f.last, i = f.run[len(f.run)-1], next
			continue
		}
		f.inside = false
		if text[i] == '\n' {
			f.line++
		}
		f.last, i = c, i+width
	}
	return len(text), nil
}

// dullRun says where the run at i ends if it can be no address: without
// escapes, too few dots and colons, no reverse name, and not cut by the end of
// the text.
func dullRun(text []byte, i int) (next int, dull bool) {
	dots, colons := 0, 0
	for next = i; next < len(text) && classes[text[next]] == classRun; next++ {
		switch text[next] {
		case '.':
			dots++
		case ':':
			colons++
		}
	}
	return next, next > i && next < len(text) && classes[text[next]] != classEscape &&
		dots < 3 && colons < 2 && (text[next-1] != '.' || text[next]|0x20 != 'i')
}

// collect gathers the run at i without its escapes, up to one byte more than
// maxRun, and gives what is behind it; ok is false where the text so far does
// not tell.
func (f *finder) collect(text []byte, i int, end bool) (next int, ok bool) {
	f.run, f.begin, f.stop = f.run[:0], f.begin[:0], f.stop[:0]
	for i < len(text) && len(f.run) <= maxRun {
		c, width := text[i], 1
		if classes[c] == classEscape {
			if !end && i+lookAhead > len(text) {
				return i, false
			}
			c, width = unescape(text[i:], 0)
		}
		if classes[c] != classRun {
			break
		}
		f.run, f.begin, f.stop = append(f.run, c), append(f.begin, i), append(f.stop, i+width)
		i += width
	}
	return i, end || len(f.run) > maxRun || i+lookAhead <= len(text)
}

// unescape reads the escape that text begins with, if it is one, and gives the
// byte that it stands for, or a space where that says nothing, and its length.
// last is the byte before, which tells colours of terminals.
func unescape(text []byte, last byte) (c byte, width int) {
	switch text[0] {
	case '%': // RFC 3986; once more encoded, the percent sign is %25
		at := 1
		for len(text) >= at+4 && text[at] == '2' && text[at+1] == '5' && isHex(text[at+2]) && isHex(text[at+3]) {
			at += 2
		}
		if len(text) < at+2 || !isHex(text[at]) || !isHex(text[at+1]) {
			break
		}
		c = digit(text[at]|0x20)<<4 | digit(text[at+1]|0x20)
		if isHex(c) { // nobody encodes digits: it is a zone, as in fe80::1%31
			c = ' '
		}
		return c, at + 2
	case '\\': // RFC 8259, and dots in regular expressions
		switch {
		case len(text) < 2:
		case strings.IndexByte("/.:", text[1]) >= 0:
			return text[1], 2
		case strings.IndexByte("nrt", text[1]) >= 0:
			return ' ', 2
		case text[1] == 'u' && len(text) >= 6 && text[2] == '0' && text[3] == '0' && isHex(text[4]) && isHex(text[5]):
			return digit(text[4]|0x20)<<4 | digit(text[5]|0x20), 6
		}
	default:
		if last == 0x1b { // ECMA-48: the colours of a terminal
			for i := 1; i < len(text) && i < lookAhead; i++ {
				if isLetter(text[i]) {
					return ' ', i + 1
				}
			}
		}
		shut := map[byte]byte{'[': ']', '(': ')', '{': '}'}[text[0]]
		switch {
		case len(text) >= 3 && text[2] == shut && (text[1] == '.' || text[1] == ':'):
			return text[1], 3
		case len(text) >= 5 && text[4] == shut && strings.EqualFold(string(text[1:4]), "dot"):
			return '.', 5
		}
	}
	return text[0], 1
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }
