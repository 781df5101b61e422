package locale

import (
	_ "embed"
	"strings"
	"sync"

	"golang.org/x/text/language"

	"eastporch/internal/core/packed"
)

//go:embed habits.gz
var habitsFile []byte

// The fields of a line of habits.gz, after the tag and its parent.
const (
	decimalMark = iota
	groupMark
	minusSign
	nativeDigits
	minGrouping
	amountPattern // ¤ is the sign of the currency
	amountLetters // the same, where the sign ends in a letter
	currencySigns // "EUR=€", or with a pattern and marks of its own "EUR=€=¤#,##0.00=.=,"
	dateFull
	dateShort
	timeShort
	dateAtTime // {1} is the date, {0} the time
	monthNames // in the form that dateFull asks for
	dayNames   // from Sunday; as the months
	dayPeriodAM
	dayPeriodPM
	dayPeriods // "05:00 name": parts of the day, where timeShort asks for them
	era        // where dateFull asks for it
	fieldCount
)

// Habits are how a language and country write numbers and times (CLDR).
type Habits [fieldCount]string

// inner parts the members of one field.
const inner = "\x1f"

var habitTables = sync.OnceValue(func() map[string]*Habits {
	parents, tables := map[string]string{}, map[string]*Habits{}
	for line := range strings.SplitSeq(strings.TrimSuffix(packed.Text(habitsFile), "\n"), "\n") {
		fields := strings.Split(line, "\t")
		var h Habits
		copy(h[:], fields[2:])
		parents[fields[0]], tables[fields[0]] = fields[1], &h
	}
	done := map[string]bool{"": true}
	var inherit func(tag string)
	inherit = func(tag string) {
		if done[tag] {
			return
		}
		done[tag] = true
		inherit(parents[tag])
		above, has := tables[parents[tag]]
		for i, own := range tables[tag] {
			switch {
			case own == "" && has:
				tables[tag][i] = above[i]
			case own == " " && (i == nativeDigits || i == dayPeriods || i == era): // its parent has them
				tables[tag][i] = ""
			}
		}
	}
	for tag := range tables {
		inherit(tag)
	}
	return tables
})

// habitsOf finds the habits of a tag, of what it is a kind of where it has none, and
// of English failing that.
func habitsOf(tag string) *Habits {
	tables := habitTables()
	for t, err := language.Parse(tag); err == nil && t != language.Und; t = t.Parent() {
		name := t.String()
		if name == "nb" {
			name = "no" // where CLDR keeps it
		}
		if h, ok := tables[name]; ok {
			return h
		}
	}
	return tables["en"]
}

// digits writes the digits of text as the language does.
func (h *Habits) digits(text string) string {
	if h[nativeDigits] == "" {
		return text
	}
	native := []rune(h[nativeDigits])
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return native[r-'0']
		}
		return r
	}, text)
}

func (h *Habits) member(field, n int) string {
	members := strings.Split(h[field], inner)
	if n >= len(members) {
		return ""
	}
	return members[n]
}
