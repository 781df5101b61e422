package gazetteer

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// SameName says whether two names are the same but for case, accents, punctuation and the
// usual short forms: St. Gallen is Sankt Gallen.
func SameName(a, b string) bool { return a == b || fold(a) == fold(b) }

var letters = map[rune]string{
	'ß': "ss", 'ø': "o", 'ł': "l", 'đ': "d", 'ð': "d", 'þ': "th", 'æ': "ae", 'œ': "oe", 'ı': "i", 'ħ': "h", 'ŧ': "t",
}

var words = map[string]string{
	"saint": "st", "sainte": "st", "ste": "st", "sankt": "st", "sint": "st", "mt": "mount", "ft": "fort",
}

// fold makes names comparable: in lower case, words parted by one space, without
// apostrophes, and without accents where scripts have them beside letters. It is the fold
// of tools/gendata/places.mjs.
func fold(name string) string {
	var b strings.Builder
	b.Grow(len(name))
	at, gap := 0, false // where the word begins
	word := func() {
		if short, ok := words[b.String()[at:]]; ok {
			rest := b.String()[:at]
			b.Reset()
			b.WriteString(rest)
			b.WriteString(short)
		}
	}
	for _, r := range decomposed(name) {
		r = unicode.ToLower(r)
		switch {
		case optional(r):
		case unicode.IsLetter(r) || unicode.IsNumber(r) || unicode.IsMark(r):
			if gap && b.Len() > 0 {
				word()
				b.WriteByte(' ')
				at = b.Len()
			}
			gap = false
			if plain, ok := letters[r]; ok {
				b.WriteString(plain)
			} else {
				b.WriteRune(r)
			}
		default:
			gap = true
		}
	}
	word()
	return b.String()
}

func decomposed(name string) string {
	for i := range len(name) {
		if name[i] >= 0x80 {
			return norm.NFKD.String(name)
		}
	}
	return name
}

// optional says whether a character is left away: accents of Latin, Greek and Cyrillic,
// points of Hebrew and Arabic, apostrophes.
func optional(r rune) bool {
	switch {
	case r < 0x80:
		return r == '\'' || r == '`'
	case r >= 0x300 && r <= 0x36f, r >= 0x591 && r <= 0x5c7, r >= 0x64b && r <= 0x65f, r == 0x670:
		return true
	}
	return strings.ContainsRune("’‘ʼʻʹʾʿ´′", r)
}
