package caller

import (
	"strings"
)

// element is one station that a header names: text as it was written, and what
// is to be read as an address, which is "" for what is none. A broken element is a
// line that may hold any number of stations.
type element struct {
	text, address string
	broken        bool
}

// listElements reads the lines of a list header such as X-Forwarded-For as one
// list, in order of arrival, without its empty elements (RFC 9110, section
// 5.6.1).
func listElements(lines []string) []element {
	var list []element
	for _, line := range lines {
		for part := range strings.SplitSeq(line, ",") {
			if part = strings.Trim(part, " \t"); part != "" {
				list = append(list, element{text: part, address: unquote(part)})
			}
		}
	}
	return list
}

// forwardedElements reads the lines of Forwarded (RFC 7239). A line whose
// grammar is broken is one unreadable element: a quote that was left open
// swallows what a proxy appended, so nothing in that line can be told apart.
func forwardedElements(lines []string) []element {
	var list []element
	for _, line := range lines {
		found, ok := forwardedLine(line)
		if !ok {
			found = []element{{text: strings.Trim(line, " \t"), broken: true}}
		}
		list = append(list, found...)
	}
	return list
}

// forwardedLine reads forwarded-element *( "," forwarded-element ), where an
// element is pairs of token "=" (token | quoted-string), with ";" between.
func forwardedLine(line string) (list []element, ok bool) {
	rest := line
	for {
		one := strings.TrimLeft(rest, " \t")
		node, fors, pairs := "", 0, 0
		rest = one
		for {
			name, after := token(strings.TrimLeft(rest, " \t"))
			if name != "" {
				value, end, good := pairValue(after)
				if !good {
					return nil, false
				}
				if strings.EqualFold(name, "for") {
					node = value
					fors++
				}
				pairs++
				after = end
			}
			rest = strings.TrimLeft(after, " \t")
			if !strings.HasPrefix(rest, ";") {
				break
			}
			rest = rest[1:]
		}
		if pairs > 0 {
			text := strings.Trim(one[:len(one)-len(rest)], " \t")
			if fors != 1 {
				node = ""
			}
			list = append(list, element{text: text, address: nodeAddress(node)})
		}
		if rest == "" {
			return list, true
		}
		if rest[0] != ',' {
			return nil, false
		}
		rest = rest[1:]
	}
}

// pairValue reads "=" and a token or quoted-string.
func pairValue(s string) (value, rest string, ok bool) {
	if !strings.HasPrefix(s, "=") {
		return "", s, false
	}
	s = s[1:]
	if !strings.HasPrefix(s, `"`) {
		value, rest = token(s)
		return value, rest, value != ""
	}
	var unescaped strings.Builder
	for i := 1; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"':
			return unescaped.String(), s[i+1:], true
		case c == '\\' && i+1 < len(s):
			i++
			unescaped.WriteByte(s[i])
		case c < ' ' && c != '\t' || c == 0x7f:
			return "", s, false
		default:
			unescaped.WriteByte(c)
		}
	}
	return "", s, false
}

// token splits the token (RFC 9110, section 5.6.2) off the beginning of s.
func token(s string) (name, rest string) {
	i := 0
	for i < len(s) && isTokenByte(s[i]) {
		i++
	}
	return s[:i], s[i:]
}

func isTokenByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0
}

// nodeAddress takes an obfuscated port off a node; an obfuscated node and
// "unknown" are no address anyway.
func nodeAddress(node string) string {
	if i := strings.LastIndex(node, ":_"); i > 0 {
		return node[:i]
	}
	return node
}

func unquote(s string) string {
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		return s[1 : len(s)-1]
	}
	return s
}
