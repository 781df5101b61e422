package gate

import (
	"fmt"
	"strings"
)

// Sentence says what a rule of a list does, such as "Admit visits from Portugal or Norway, Saturday 07:00
// until Friday 20:00 (Europe/Zurich)", with at most some entries of each kind.
func (r *Rule) Sentence(list List) string {
	var who []string
	add := func(before string, entries []string, after string) {
		if len(entries) > 0 {
			who = append(who, before+oneOf(entries)+after)
		}
	}
	add("visits from ", names(r.Countries), "")
	add("visits from the group ", r.Groups, "")
	add("visits from ", r.Regions, "")
	add("visits from the area ", r.Areas, "")
	add("addresses with the label ", r.Labels, "")
	add("", r.Kinds, " addresses")
	add("addresses of ", r.Networks, "")
	text := strings.ToUpper(string(r.outcome(list))[:1]) + string(r.outcome(list))[1:] + " "
	if len(who) == 0 {
		text += "everybody"
	}
	text += strings.Join(who, ", or ")
	if r.From != "" {
		text += " from " + strings.Replace(r.From, "T", " ", 1)
	}
	if r.Until != "" {
		text += " until " + strings.Replace(r.Until, "T", " ", 1)
	}
	if r.TimeZone != "" {
		text += " (" + r.TimeZone + ")"
	}
	if r.Basis != "" {
		text += ", on a " + r.Basis + " or better"
	}
	for _, word := range Absences {
		if does := r.Missing[word]; does != "" && does != next {
			text += fmt.Sprintf("; %s where %s", does, absenceWords[wordOf(word)])
		}
	}
	return text
}

// End says what a gate does with those whom no rule decides about.
func (g *Gate) End() string {
	text := map[Outcome]string{Admit: "Admit", Refuse: "Refuse"}[g.end()] + " everybody else"
	for _, word := range Absences {
		text += fmt.Sprintf("; %s: %s", strings.ReplaceAll(word, "_", " "), g.Missing.of(wordOf(word)))
	}
	return text
}

func wordOf(word string) absence {
	for i, w := range Absences {
		if w == word {
			return absence(i + 1)
		}
	}
	return present
}

// oneOf names entries of which any will do.
func oneOf(entries []string) string {
	if len(entries) == 1 {
		return entries[0]
	}
	if len(entries) > 5 {
		return fmt.Sprintf("%s and %d more", strings.Join(entries[:4], ", "), len(entries)-4)
	}
	return strings.Join(entries[:len(entries)-1], ", ") + " or " + entries[len(entries)-1]
}
