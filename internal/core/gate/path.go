package gate

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// A Target is the path of a request, in every way in which a proxy or an application may read it. Of a
// path that reads as one thing only it costs nothing.
type Target struct {
	path string
	// others are further readings; unreadable means that there may be more.
	others     []string
	unreadable bool
}

// Bounds of reading.
const (
	maxTarget = 8192 // bytes
	maxDecode = 3    // times that a target may have been percent-encoded
)

// ReadTarget reads the request target of HTTP (RFC 9112, section 3.2), raw as it came, or a path: the
// query is left out. What can be read in several ways is kept in all of them: percent-encoded (RFC
// 3986), more than once too, with dot segments, double slashes, backslashes or parameters behind a
// semicolon. What cannot be read meets every gate of its site: no path, more than 8 KiB, a control
// character, not UTF-8, a percent sign that encodes nothing, and a raw space or # (no target has
// them, some applications end the path there and some do not). Other characters that RFC 3986 does
// not allow raw, such as | or [, are read as themselves.
func ReadTarget(raw string) Target {
	path, _, _ := strings.Cut(raw, "?")
	if strings.ContainsAny(path, "# ") {
		return Target{path: "/", unreadable: true}
	}
	if scheme, rest, ok := strings.Cut(path, "://"); ok && scheme != "" && !strings.Contains(scheme, "/") { // absolute-form
		if _, after, ok := strings.Cut(rest, "/"); ok {
			path = "/" + after
		} else {
			path = "/"
		}
	}
	if len(path) == 0 || path[0] != '/' || len(path) > maxTarget {
		return Target{path: "/", unreadable: true}
	}
	t := Target{path: path}
	if isPlain(path) {
		return t
	}
	for range maxDecode {
		if !utf8.ValidString(path) || strings.ContainsFunc(path, unicode.IsControl) {
			t.unreadable = true
			return t
		}
		t.add(path)
		for _, p := range []string{path, loose(path), norm.NFC.String(path)} {
			t.add(normal(p, false))
			t.add(normal(p, true))
		}
		decoded, ok := unescape(path)
		if !ok {
			t.unreadable = true
			return t
		}
		if decoded == path {
			return t
		}
		path = decoded
	}
	t.unreadable = true // it is encoded more often than anything reads
	return t
}

// ReadPath reads the path of a page that was visited, as a page or an application tells of it: like
// [ReadTarget], but a space or # that was decoded stands for itself, since nothing is served by it any
// more.
func ReadPath(path string) Target { return ReadTarget(decoded.Replace(path)) }

var decoded = strings.NewReplacer(" ", "%20", "#", "%23")

func (t *Target) add(path string) {
	if path == t.path {
		return
	}
	for _, known := range t.others {
		if known == path {
			return
		}
	}
	t.others = append(t.others, path)
}

// Is says whether a target reads as a path and as nothing else.
func (t *Target) Is(path string) bool { return t.path == path && len(t.others) == 0 && !t.unreadable }

// isPlain says whether a path reads as one thing only.
func isPlain(path string) bool {
	for i := range len(path) {
		switch c := path[i]; {
		case c < 0x20 || c == '%' || c == '\\' || c == ';' || c >= 0x7f:
			return false
		case c == '/' && i+1 < len(path) && (path[i+1] == '/' || path[i+1] == '.'):
			return false
		case c == '.' && (i+1 == len(path) || path[i+1] == '/'):
			return false
		}
	}
	return true
}

// unescape decodes percent-encoding once; ok is false where a percent sign encodes nothing.
func unescape(path string) (decoded string, ok bool) {
	if !strings.Contains(path, "%") {
		return path, true
	}
	out := make([]byte, 0, len(path))
	for i := 0; i < len(path); i++ {
		if path[i] != '%' {
			out = append(out, path[i])
			continue
		}
		if i+2 >= len(path) {
			return "", false
		}
		high, low := unhex(path[i+1]), unhex(path[i+2])
		if high > 15 || low > 15 {
			return "", false
		}
		out = append(out, high<<4|low)
		i += 2
	}
	return string(out), true
}

func unhex(c byte) byte {
	switch {
	case '0' <= c && c <= '9':
		return c - '0'
	case 'a' <= c && c <= 'f':
		return c - 'a' + 10
	case 'A' <= c && c <= 'F':
		return c - 'A' + 10
	}
	return 16
}

// normal removes dot segments (RFC 3986, section 5.2.4), and where merge is true double slashes too.
// A backslash is a slash.
func normal(path string, merge bool) string {
	path = strings.ReplaceAll(path, `\`, "/")
	var kept []string
	parts := strings.Split(path, "/")[1:]
	for i, part := range parts {
		last := i == len(parts)-1
		switch {
		case part == "." || part == "..":
			if part == ".." && len(kept) > 0 {
				kept = kept[:len(kept)-1]
			}
			if last {
				kept = append(kept, "")
			}
		case part == "" && merge && !last:
		default:
			kept = append(kept, part)
		}
	}
	return "/" + strings.Join(kept, "/")
}

// loose cuts what the most forgiving servers do: what stands behind a semicolon in each segment, and
// points and spaces at its end.
func loose(path string) string {
	parts := strings.Split(path, "/")
	for i, part := range parts {
		part, _, _ = strings.Cut(part, ";")
		if bare := strings.TrimRight(part, ". "); bare != "" {
			part = bare
		}
		parts[i] = part
	}
	return strings.Join(parts, "/")
}

// A pattern is a path pattern: segments, of which * is any one, and whether anything may follow.
type pattern struct {
	segments []string
	deep     bool
}

func parsePattern(text string) pattern {
	p := pattern{segments: strings.Split(strings.Trim(text, "/"), "/")}
	if last := len(p.segments) - 1; p.segments[last] == "**" {
		p.segments, p.deep = p.segments[:last], true
	} else if text == "/" {
		p.segments = nil
	}
	return p
}

// fits says whether a target, in any of its readings, is one of the pattern's.
func (p *pattern) fits(t *Target) bool {
	if t.unreadable || p.matches(t.path) {
		return true
	}
	for _, other := range t.others {
		if p.matches(other) {
			return true
		}
	}
	return false
}

// matches compares without regard to case; a slash at the end makes no difference.
func (p *pattern) matches(path string) bool {
	rest := path[1:]
	for _, segment := range p.segments {
		if rest == "" {
			return false
		}
		var part string
		part, rest, _ = strings.Cut(rest, "/")
		if segment == "*" && part != "" {
			continue
		}
		if !strings.EqualFold(segment, part) {
			return false
		}
	}
	return p.deep || rest == ""
}
