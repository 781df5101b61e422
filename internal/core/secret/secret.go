// Package secret has the names of secrets, and keeps their values out of what is shown.
package secret

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Mask stands wherever a secret would.
const Mask = "••••"

// VariablePrefix is what the names of variables begin with that may be secrets.
const VariablePrefix = "EASTPORCH_SECRET_"

var (
	fileName     = regexp.MustCompile(`^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$`)
	variableName = regexp.MustCompile(`^` + VariablePrefix + `[A-Z0-9_]{1,50}$`)
)

// Name reads what names a secret: a file in the directory of secrets or a variable, by
// its name. ok is false for anything else, such as a path.
func Name(text string) (file, variable string, ok bool) {
	if name, is := strings.CutPrefix(text, "file:"); is {
		return name, "", fileName.MatchString(name)
	}
	name, is := strings.CutPrefix(text, "env:")
	return "", name, is && variableName.MatchString(name)
}

// Bounds of a secret, in bytes: a shorter one would be masked wherever these letters stand.
const (
	least = 8
	most  = 4096
)

// Check cleans a secret as it stands in a file or variable. The error tells nothing of it.
func Check(text string) (string, error) {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return "", fmt.Errorf("it is empty")
	case len(text) < least:
		return "", fmt.Errorf("it has fewer than %d characters, and could not be kept out of what is shown", least)
	case len(text) > most:
		return "", fmt.Errorf("it has more than %d bytes", most)
	case strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r > '~' }):
		return "", fmt.Errorf("it has other characters than printable ASCII on one line")
	}
	return text, nil
}

// Values are the values of secrets, by their names.
type Values map[string]string

// Hide puts [Mask] wherever a text holds a secret, in any case and however its characters
// are written: plain, as in addresses, JSON or HTML, each by itself; or all of it in base64,
// also within more, or in hexadecimal digits.
func (s Values) Hide(text string) string {
	for _, value := range s {
		for _, plain := range parts(value) {
			text = replace(text, func(rest string) int { return written(rest, plain) })
			for _, form := range encoded(plain) {
				text = strings.ReplaceAll(text, form, Mask)
			}
			digits := hex.EncodeToString([]byte(plain))
			text = replace(text, func(rest string) int { return written(rest, digits) })
		}
	}
	return text
}

// parts are what is kept secret of a value: all of it, and of Bearer TOKEN the token.
func parts(value string) []string {
	if _, token, ok := strings.Cut(value, " "); ok && len(token) >= least {
		return []string{value, token}
	}
	return []string{value}
}

// replace puts the mask where a match begins of so many bytes, which is 0 for none.
func replace(text string, match func(rest string) int) string {
	var out strings.Builder
	from := 0
	for i := 0; i < len(text); {
		n := match(text[i:])
		if n == 0 {
			i++
			continue
		}
		out.WriteString(text[from:i])
		out.WriteString(Mask)
		i += n
		from = i
	}
	if from == 0 {
		return text
	}
	out.WriteString(text[from:])
	return out.String()
}

// written says how many bytes of text write a secret from its beginning, 0 where they do not.
func written(text, secret string) int {
	for _, w := range letter(text, secret[0]) {
		if len(secret) == 1 {
			return w
		}
		if n := written(text[w:], secret[1:]); n > 0 {
			return w + n
		}
	}
	return 0
}

// The escapes of addresses, also of addresses in addresses; of JSON and JavaScript; of HTML.
var escapes = []struct {
	form *regexp.Regexp
	base int
}{
	{regexp.MustCompile(`^%([0-9A-Fa-f]{2})`), 16},
	{regexp.MustCompile(`^%(?:25)+([0-9A-Fa-f]{2})`), 16},
	{regexp.MustCompile(`^\\+(?:u00|x)([0-9A-Fa-f]{2})`), 16},
	{regexp.MustCompile(`^&(?:amp;)*#[xX]0*([0-9A-Fa-f]{2});`), 16},
	{regexp.MustCompile(`^&(?:amp;)*#0*([0-9]{2,3});`), 10},
	{regexp.MustCompile(`^&([a-z]+);`), 0},
	{regexp.MustCompile(`^&(?:amp;)+([a-z]+);`), 0},
	{regexp.MustCompile(`^\\+(.)`), 1},
}

var named = map[string]byte{"amp": '&', "lt": '<', "gt": '>', "quot": '"', "apos": '\''}

// letter says how many bytes at the beginning of text may write a character.
func letter(text string, c byte) []int {
	if text == "" {
		return nil
	}
	var list []int
	if same(text[0], c) || text[0] == '+' && c == ' ' {
		list = append(list, 1)
	}
	if !strings.ContainsRune(`%\&`, rune(text[0])) {
		return list
	}
	for _, e := range escapes {
		found := e.form.FindStringSubmatch(text)
		if found == nil {
			continue
		}
		is := found[1][0]
		switch e.base {
		case 0:
			is = named[found[1]]
		case 10, 16:
			n, _ := strconv.ParseUint(found[1], e.base, 8)
			is = byte(n)
		}
		if same(is, c) {
			list = append(list, len(found[0]))
		}
	}
	return list
}

func same(a, b byte) bool {
	lower := func(c byte) byte {
		if c >= 'A' && c <= 'Z' {
			return c + 'a' - 'A'
		}
		return c
	}
	return lower(a) == lower(b)
}

// encoded are the ways in which a secret stands in base64, wherever in what is encoded it
// begins: without the letters at both ends that its neighbours have a part in.
func encoded(secret string) []string {
	var list []string
	for before := range 3 {
		whole := append(make([]byte, before), secret...)
		from, to := (before*8+5)/6, len(whole)*8/6
		for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			list = append(list, alphabet.EncodeToString(whole)[from:to])
		}
	}
	return list
}
