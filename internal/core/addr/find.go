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
	Reason string
}

// maxRun bounds a run of bytes that may be an address; longer ones are none.
const maxRun = 128

// blockSize is how much of a text is read at a time.
const blockSize = 64 << 10

// Find calls found for every address and prefix in a text of any size, and for
// every look-alike with the reason, in order. It reads as it goes and keeps at
// most some 64 KB. It stops at an error of r or of found and gives it back.
func Find(r io.Reader, found func(Found) error) error {
	f := finder{found: found, line: 1}
	buffer := make([]byte, 0, blockSize)
	for {
		n, err := r.Read(buffer[len(buffer):cap(buffer)])
		buffer = buffer[:len(buffer)+n]
		end := err != nil
		used, problem := f.scan(buffer, end)
		if problem != nil {
			return problem
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		f.offset += int64(used)
		buffer = buffer[:copy(buffer, buffer[used:])]
	}
}

// Classes of bytes.
const (
	classOther byte = iota
	classWord       // letters and digits that no address has, and _
	classRun        // what addresses are made of
)

var classes = func() (table [256]byte) {
	for c := range table {
		b := byte(c)
		switch {
		case isHex(b) || b == '.' || b == ':' || b == '/':
			table[c] = classRun
		case b >= 'g' && b <= 'z' || b >= 'G' && b <= 'Z' || b == '_':
			table[c] = classWord
		}
	}
	return table
}()

type finder struct {
	found  func(Found) error
	offset int64
	line   int
	last   byte // before the first byte of the buffer
}

// scan looks at text and gives how much of it is done with; at the end all is.
func (f *finder) scan(text []byte, end bool) (used int, err error) {
	for i := 0; i < len(text); {
		if classes[text[i]] != classRun {
			if text[i] == '\n' {
				f.line++
			}
			f.last = text[i]
			i++
			continue
		}
		start, dots, colons := i, 0, 0
		for i < len(text) && classes[text[i]] == classRun {
			switch text[i] {
			case '.':
				dots++
			case ':':
				colons++
			}
			i++
		}
		if i+2 > len(text) && !end && i-start <= maxRun {
			return start, nil // it may go on, or what follows may tell
		}
		if dots >= 3 || colons >= 2 {
			var next byte
			if i < len(text) {
				next = text[i]
			}
			if err := f.run(text[start:i], int64(start), next, after(text, i)); err != nil {
				return i, err
			}
		}
		f.last = text[i-1]
	}
	return len(text), nil
}

// after is the byte behind the one at i, or 0.
func after(text []byte, i int) byte {
	if i+1 < len(text) {
		return text[i+1]
	}
	return 0
}

// run judges a run of bytes that may hold an address.
func (f *finder) run(run []byte, at int64, next, second byte) error {
	if len(run) > maxRun {
		return f.tell(string(run[:maxRun]), at, netip.Prefix{}, "it is longer than any address")
	}
	text := string(run)
	trimmed := strings.TrimLeft(text, "/.")
	if strings.HasPrefix(trimmed, ":") && !strings.HasPrefix(trimmed, "::") {
		trimmed = strings.TrimLeft(trimmed, ":/.")
	}
	lead := len(text) - len(trimmed)
	at += int64(lead)
	text = strings.TrimRight(trimmed, "./")
	if strings.HasSuffix(text, ":") && !strings.HasSuffix(text, "::") {
		text = text[:len(text)-1]
	}
	cutEnd := lead+len(text) < len(run)
	joined := lead == 0 && classes[f.last] == classWord || !cutEnd && classes[next] == classWord
	return f.judge(text, at, joined, !cutEnd && next == '-' && isLetter(second))
}

// judge finds an address in a run that was trimmed. joined says that a word
// touches it, dashed that one follows behind a dash.
func (f *finder) judge(text string, at int64, joined, dashed bool) error {
	dots, colons := strings.Count(text, "."), strings.Count(text, ":")
	if dots < 3 && colons < 2 {
		return nil
	}
	if colons == 1 { // a port behind, or a word before
		head, tail, _ := strings.Cut(text, ":")
		if isPort(tail) {
			text, joined, dashed = head, joined && classes[f.last] == classWord, false
		} else if strings.Count(tail, ".") >= 3 {
			text, at, joined = tail, at+int64(len(head))+1, false
		}
		colons = 0
	}
	if host, rest, slashed := strings.Cut(text, "/"); slashed && !isLength(rest) {
		text, joined = host, false // a path behind an address
	}
	switch {
	case strings.Trim(text, ":") == "":
		return f.tell(text, at, netip.Prefix{}, "it is a scope operator")
	case joined && colons > 0:
		return f.tell(text, at, netip.Prefix{}, "it is part of a name with a scope operator")
	case joined || dashed:
		return f.tell(text, at, netip.Prefix{}, "it is part of a word, such as a version number")
	case colons >= 2 && dots == 0 && !strings.ContainsAny(text, "0123456789"):
		return f.tell(text, at, netip.Prefix{}, "without a digit it is taken for a scope operator")
	}
	if strings.Contains(text, "/") {
		if p, err := ParsePrefix(text); err == nil {
			return f.tell(text, at, p, "")
		}
		if p, err := netip.ParsePrefix(text); err == nil && p.IsValid() { // an address with its network's length
			return f.tell(text, at, netip.PrefixFrom(Canonical(p.Addr()), Canonical(p.Addr()).BitLen()), "")
		}
	} else if a, err := netip.ParseAddr(text); err == nil {
		a = Canonical(a)
		return f.tell(text, at, netip.PrefixFrom(a, a.BitLen()), "")
	}
	return f.tell(text, at, netip.Prefix{}, lookAlike(text, dots, colons))
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

func isLength(s string) bool {
	return s != "" && len(s) <= 3 && strings.Trim(s, "0123456789") == ""
}

// lookAlike says what a run that is no address probably is.
func lookAlike(text string, dots, colons int) string {
	groups := strings.Split(text, ":")
	switch {
	case colons == 0 && dots > 3:
		return "it has more than four parts, like a version or an object identifier"
	case colons == 0:
		return whyNot(strings.SplitN(text, "/", 2)[0])
	case colons == 5 && len(text) == 17 && len(groups[0]) == 2:
		return "it is a MAC address"
	case colons <= 3 && strings.Trim(text, "0123456789:./") == "" && !strings.Contains(text, "::"):
		return "it is a time"
	}
	return "the IPv6 groups do not fit"
}

func (f *finder) tell(text string, at int64, p netip.Prefix, reason string) error {
	return f.found(Found{Offset: f.offset + at, Line: f.line, Text: text, Prefix: p, Reason: reason})
}
