package addr

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"
)

var versionWords = []string{"ver", "v", "build", "release", "revision", "rev", "firmware", "fw", "driver", "kernel", "patch", "oid", "section", "chapter", "clause"}

// isVersion says whether what stands before makes a dotted text a version.
func (p piece) isVersion() bool {
	if p.before == "" {
		return false
	}
	var shape *regexp.Regexp
	switch p.before[len(p.before)-1] {
	case '-':
		shape = nameDash
	case '/':
		shape = product
	case '=', '>':
		shape = comparison
	}
	if shape != nil {
		if m := shape.FindStringSubmatch(p.before); m != nil {
			_, err := parseAddr(m[1])
			return err != nil && !addressWord.MatchString(m[1])
		}
	}
	word := strings.TrimRight(p.before, "=: \"'(")
	if word == p.before {
		return false
	}
	word = strings.ToLower(word[strings.LastIndexFunc(word, func(r rune) bool { return r > 'z' || !isLetter(byte(r)) })+1:])
	return slices.Contains(versionWords, word) || strings.HasSuffix(word, "version")
}

// netmask is the length of a dotted mask, or of the inverse of one.
func netmask(text string) (bits int, ok bool) {
	a, err := parseAddr(text)
	if err != nil || !a.Is4() {
		return 0, false
	}
	b := a.As4()
	n := uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
	if b[0] == 0 {
		n = ^n
	}
	for bits = 0; n&(1<<31) != 0; bits++ {
		n <<= 1
	}
	return bits, n == 0 && bits >= 8 && bits < 32
}

var pairs = regexp.MustCompile(`^[0-9A-Fa-f]{2}(:[0-9A-Fa-f]{2})+$`)

// lookAlike says what else a piece is that may read as an address, or "".
func (p piece) lookAlike(dots, colons int) string {
	text := p.text
	switch {
	case text == "::" && strings.HasSuffix(p.before, "[") && strings.HasPrefix(p.after, "]"):
		return ""
	case strings.Trim(text, ":") == "":
		return "it is a scope operator"
	case colons == 5 && pairs.MatchString(text):
		return "it is a MAC address"
	case colons >= 4 && pairs.MatchString(text):
		return "it is a fingerprint or another row of bytes"
	case colons >= 2 && colons <= 3 && dots <= 1 && strings.Trim(text, "0123456789:./") == "" && !strings.Contains(text, "::"):
		return "it is a time"
	case dots == 0 && !strings.ContainsAny(text, "0123456789"):
		return "without a digit it is taken for a scope operator"
	}
	return ""
}

// why says why a piece is not an address.
func (p piece) why(dots, colons int) string {
	switch {
	case (p.left || p.right) && colons > 0:
		return partOfName
	case p.left || p.right:
		return partOfWord
	case colons == 0 && dots > 3:
		return "it has more than four parts, like a version or an object identifier"
	case colons == 0:
		return whyNot(p.text)
	}
	return "the IPv6 groups do not fit"
}

// reverseName reads a run as the beginning of a name of in-addr.arpa or
// ip6.arpa: an address, or a network where some of its parts are missing.
func reverseName(p *piece) (Found, bool) {
	if p.left && !strings.HasPrefix(p.text, ".") || !strings.HasSuffix(p.text, ".") {
		return Found{}, false
	}
	lower := strings.ToLower(p.after)
	labels := strings.Split(strings.Trim(p.text, "./"), ".")
	slices.Reverse(labels)
	v4, v6 := strings.HasPrefix(lower, "in-addr.arpa"), strings.HasPrefix(lower, "ip6.arpa")
	if !v4 && !v6 {
		return Found{}, false
	}
	found := Found{Note: "reverse name"}
	*p = p.part(len(p.text)-len(strings.TrimLeft(p.text, "./")), len(strings.TrimRight(p.text, "./")))
	switch {
	case v4 && len(labels) <= 4:
		a, err := parseAddr(strings.Join(append(slices.Clone(labels), "0", "0", "0")[:4], "."))
		if err != nil {
			return Found{Reason: "a reverse name has up to 4 numbers before in-addr.arpa"}, true
		}
		found.Prefix = netip.PrefixFrom(a, 8*len(labels))
		return found, true
	case v6 && len(labels) <= 32:
		var b [16]byte
		for i, label := range labels {
			if len(label) != 1 || !isHex(label[0]) {
				return Found{Reason: "a reverse name has up to 32 digits before ip6.arpa"}, true
			}
			b[i/2] |= digit(label[0]|0x20) << (4 * (1 - i%2))
		}
		found.Prefix = netip.PrefixFrom(netip.AddrFrom16(b), 4*len(labels))
		return found, true
	}
	return Found{Reason: "it has more parts than a reverse name"}, true
}
