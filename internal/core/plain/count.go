package plain

import (
	"fmt"
	"strings"
)

// Plural gives an English noun as it stands behind a count: visit, visits, address, addresses,
// entry, entries.
func Plural[N int | int64](n N, noun string) string {
	last := noun[len(noun)-1]
	switch {
	case n == 1:
		return noun
	case last == 's' || last == 'x' || last == 'h':
		return noun + "es"
	case last == 'y' && !strings.ContainsRune("aeiou", rune(noun[len(noun)-2])):
		return noun[:len(noun)-1] + "ies"
	}
	return noun + "s"
}

// Count words a count: 1 visit, 2 visits.
func Count[N int | int64](n N, noun string) string { return fmt.Sprint(n, " ", Plural(n, noun)) }
