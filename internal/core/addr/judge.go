package addr

import (
	"bytes"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// A piece is a part of a run, with what stands around it.
type piece struct {
	text     string
	from     int    // in the run
	before   string // what stands before it, without escapes
	after    string // what stands behind it
	left     bool   // a word touches it on its left
	right    bool   // and on its right
	named    bool   // a dot and a letter are behind it: a host name
	followed bool   // a port is behind it
}

// judgeRun looks for addresses in the run that was collected; next is what is
// behind it.
func (f *finder) judgeRun(text []byte, next int) error {
	run := string(f.run)
	ends := run[len(run)-1] == '.' && next < len(text) && text[next]|0x20 == 'i' // perhaps a reverse name
	if !ends && strings.Count(run, ".") < 3 && strings.Count(run, ":") < 2 {
		return nil
	}
	if len(run) > maxRun {
		return f.tell(text, piece{text: run[:maxRun]}, Found{Reason: "it is longer than any address"})
	}
	after := string(text[next:min(next+lookAhead, len(text))])
	if next < len(text) && classes[text[next]] == classEscape {
		if c, width := unescape(text[next:], 0); width > 1 {
			after = string(c)
		}
	}
	before := text[max(f.begin[0]-context, 0):f.begin[0]]
	before = before[bytes.LastIndexByte(before, '\n')+1:] // of its line
	p := piece{
		text: run, before: plainText(before), after: after,
		left: classes[f.last] == classWord, right: after != "" && classes[after[0]] == classWord,
	}
	if found, ok := reverseName(&p); ok {
		return f.tell(text, p, found)
	}
	// A range may have two dots.
	for at := 0; ; {
		i := strings.Index(run[at:], "..")
		if i < 0 {
			return f.judgeTrimmed(text, p.part(at, len(run)))
		}
		if err := f.judgeTrimmed(text, p.part(at, at+i)); err != nil {
			return err
		}
		at += i + 2
	}
}

// plainText is a text without its escapes.
func plainText(raw []byte) string {
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); {
		c, width := raw[i], 1
		if classes[c] == classEscape {
			c, width = unescape(raw[i:], 0)
		}
		out, i = append(out, c), i+width
	}
	return string(out)
}

// part is a piece of a piece.
func (p piece) part(from, to int) piece {
	whole := p.text
	if from > 0 {
		p.before, p.left = p.before+whole[:from], false
	}
	if to < len(whole) {
		p.after, p.right, p.named, p.followed = whole[to:]+p.after, false, false, false
	}
	p.text, p.from = whole[from:to], p.from+from
	return p
}

// judgeTrimmed takes off what does not belong to an address on both sides.
func (f *finder) judgeTrimmed(source []byte, p piece) error {
	run := p.text
	from := len(run) - len(strings.TrimLeft(run, "/."))
	if strings.HasPrefix(run[from:], ":") && !strings.HasPrefix(run[from:], "::") {
		from = len(run) - len(strings.TrimLeft(run, ":/."))
	}
	to := len(strings.TrimRight(run, "./"))
	if to > from && strings.HasSuffix(run[:to], ":") && !strings.HasSuffix(run[:to], "::") {
		to--
	}
	if to <= from {
		return nil
	}
	q := p.part(from, to)
	q.left = p.left && (from == 0 || run[:from] == ".") // a name with dots
	q.named = q.named || run[to:] == "." && p.after != "" && isLetter(p.after[0])
	return f.judge(source, q)
}

// judge finds addresses in a piece that was trimmed.
func (f *finder) judge(source []byte, p piece) error {
	text := p.text
	dots, colons := strings.Count(text, "."), strings.Count(text, ":")
	if dots < 3 && colons < 2 {
		return nil
	}
	if reason := p.lookAlike(dots, colons); reason != "" {
		return f.tell(source, p, Found{Reason: reason})
	}
	found, ok := whole(text)
	word, behind, led := strings.Cut(text, ":")
	led = led && (p.left || !ok) && !strings.HasPrefix(behind, ":") && strings.Count(behind, ".")+strings.Count(behind, ":") >= 2 &&
		leadingWord.MatchString(p.before+word)
	if ok && !(led && p.left) {
		if reason := p.refuse(dots > 0 && colons == 0); reason != "" {
			return f.tell(source, p, Found{Reason: reason})
		}
		return f.tell(source, p, p.note(found))
	}
	if led { // ip6:2001:db8::1, ip4:192.0.2.0/24
		return f.judge(source, p.part(len(word)+1, len(text)))
	}
	host, rest, slashed := strings.Cut(text, "/")
	if slashed {
		if bits, ok := netmask(rest); ok {
			if a, err := parseAddr(host); err == nil && a.Is4() {
				return f.tell(source, p, networkOf(a, bits))
			}
		}
		if err := f.judge(source, p.part(0, len(host))); err != nil {
			return err
		}
		return f.judgeTrimmed(source, p.part(len(host)+1, len(text)))
	}
	if dots >= 3 && colons > 0 {
		return f.judgeParts(source, p)
	}
	if found, end, ok := withPort(text); ok && !p.left && !p.right {
		return f.tell(source, p.part(0, end), found)
	}
	if found, ok := p.dotPort(); ok {
		return f.tell(source, p, found)
	}
	return f.tell(source, p, Found{Reason: p.why(dots, colons)})
}

// leadingWord is a word and a colon before an address, such as ip6:.
var leadingWord = regexp.MustCompile(`(^|[^A-Za-z0-9:.])[A-Za-z]+[46]?$`)

// judgeParts judges the dotted parts between colons, which may have a port
// behind them.
func (f *finder) judgeParts(source []byte, p piece) error {
	at, told := 0, false
	parts := strings.Split(p.text, ":")
	for i, part := range parts {
		if strings.Count(part, ".") >= 3 {
			q := p.part(at, at+len(part))
			q.followed = i+1 < len(parts) && isPort(parts[i+1])
			told = true
			if err := f.judge(source, q); err != nil {
				return err
			}
		}
		at += len(part) + 1
	}
	if told {
		return nil
	}
	return f.tell(source, p, Found{Reason: "the IPv6 groups do not fit"})
}

// whole reads a text that is an address or prefix as it stands.
func whole(text string) (Found, bool) {
	if strings.Contains(text, "/") {
		if p, err := ParsePrefix(text); err == nil {
			return Found{Prefix: p}, true
		}
		if p, err := netip.ParsePrefix(text); err == nil && p.IsValid() { // an address with its network's length
			return Found{Prefix: single(p.Addr())}, true
		}
		return Found{}, false
	}
	a, err := parseAddr(text)
	if err != nil {
		return Found{}, false
	}
	found := Found{Prefix: single(a)}
	if other, end, ok := withPort(text); ok {
		found.Other, found.Note = other.Prefix, "or "+text[:end]+" and port "+text[end+1:]
	}
	return found, true
}

func single(a netip.Addr) netip.Prefix {
	a = Canonical(a)
	return netip.PrefixFrom(a, a.BitLen())
}

// networkOf is the address with the length of a netmask: the network where it
// is its first address, else the address.
func networkOf(a netip.Addr, bits int) Found {
	if p := netip.PrefixFrom(a, bits); p.Masked() == p {
		return Found{Prefix: p}
	}
	return Found{Prefix: single(a)}
}

// withPort reads IPv6 with a port behind it without brackets, as some software
// writes it, and says where the address ends. Small numbers are no ports: they
// are the usual ends of addresses.
func withPort(text string) (found Found, end int, ok bool) {
	end = strings.LastIndexByte(text, ':')
	if end <= 0 || strings.HasSuffix(text[:end], ":") || !isPort(text[end+1:]) || text[end+1] == '0' {
		return Found{}, 0, false
	}
	port, _ := strconv.Atoi(text[end+1:])
	if port < 1024 && !slices.Contains([]int{22, 25, 53, 80, 123, 443, 465, 587, 853, 993}, port) {
		return Found{}, 0, false
	}
	a, err := parseAddr(text[:end])
	if err != nil {
		return Found{}, 0, false
	}
	return Found{Prefix: single(a), Note: "port " + text[end+1:]}, end, true
}

// dotPort reads 198.18.3.40.443, as tcpdump and netstat of BSD write a port.
func (p piece) dotPort() (Found, bool) {
	end := strings.LastIndexByte(p.text, '.')
	if end < 0 || !isPort(p.text[end+1:]) || p.left || p.right {
		return Found{}, false
	}
	a, err := parseAddr(p.text[:end])
	packet := strings.HasSuffix(p.before, "> ") || strings.HasPrefix(p.after, " > ") || socketLine.MatchString(p.before)
	if err != nil || !packet {
		return Found{}, false
	}
	return Found{Prefix: single(a), Note: "port " + p.text[end+1:]}, true
}

var socketLine = regexp.MustCompile(`^(tcp|udp)(4|6|46)?\s`)

// note adds what a reader should know of how an address is written.
func (p piece) note(found Found) Found {
	if p.named && found.Prefix.IsSingleIP() && found.Prefix.Addr().Is4() {
		b := found.Prefix.Addr().As4()
		slices.Reverse(b[:])
		found.Other = single(netip.AddrFrom4(b))
		found.Note = "part of a host name, which may have it reversed: " + found.Other.Addr().String()
	}
	return found
}

// refuse says why an address that reads well is probably none, or "".
func (p piece) refuse(dotted bool) string {
	switch {
	case (p.left || p.right) && dotted:
		return partOfWord
	case p.left || p.right:
		return partOfName
	case !dotted || p.followed:
		return ""
	case p.named && fileBehind.MatchString(strings.TrimLeft(p.after, ".")):
		return partOfWord
	case versionBehind.MatchString(p.after) && !strings.HasSuffix(p.before, "+"): // + is a space in forms
		return partOfWord
	case p.isVersion():
		return "it is a version number"
	}
	if _, mask := netmask(p.text); mask {
		return "it is a netmask"
	}
	return ""
}

const (
	partOfWord = "it is part of a word, such as a version number"
	partOfName = "it is part of a name with a scope operator"
)

var (
	versionBehind = regexp.MustCompile(`^[-+~][A-Za-z]`)
	fileBehind    = regexp.MustCompile(`^(?i)(jar|war|tar|tgz|zip|deb|rpm|exe|msi|dll|so|whl|gem|apk|dmg|el\d+|fc\d+|noarch|x86)\b`)
	// What stands before a version number: a package's name and a dash; a
	// product (RFC 9110, section 10.1.5), which is neither a path nor a host name; a
	// comparison. Words of addresses before them say otherwise.
	nameDash    = regexp.MustCompile(`([\w.+:]*[A-Za-z][\w.+:]*)-$`)
	product     = regexp.MustCompile(`(?:^|[\s"'(;,])([A-Za-z][\w-]*)/$`)
	comparison  = regexp.MustCompile(`([\w.]*)(?:==|>=|<=|~=|~>|=>)$`)
	addressWord = regexp.MustCompile(`(?i)(^|[._-])(ip|ipv4|ip4|addr|address|host|client|peer|src|dst|source|from|to|node|server|remote|net|range|localhost)$`)
)

// tell reports a piece of the run as it stands in the source.
func (f *finder) tell(source []byte, p piece, found Found) error {
	first, last := f.begin[p.from], f.stop[p.from+len(p.text)-1]
	found.Offset, found.Line, found.Text = f.offset+int64(first), f.line, string(source[first:last])
	if found.Reason == "" && found.Note == "" && len(found.Text) > len(p.text) {
		found.Note = "written " + found.Text
	}
	return f.found(found)
}
