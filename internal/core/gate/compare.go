package gate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
)

// compare warns of rules of a gate that can never decide, and of those that contradict an earlier one.
func (c *checker) compare(at string, g *Gate) {
	rules := make([]rule, len(g.Rules))
	refuses := g.List == Allow
	for i := range g.Rules {
		rules[i] = compile(g, &g.Rules[i], c.known)
		refuses = refuses || rules[i].does == Refuse
		c.after(fmt.Sprintf("%srules.%d", at, i), g, rules[:i+1])
	}
	if !refuses && g.Mode != Off {
		c.warn(at+"rules", "Add whom it refuses.", "this deny list refuses nobody")
	}
}

// after compares the last of some rules with those before it.
func (c *checker) after(at string, g *Gate, rules []rule) {
	i := len(rules) - 1
	last, uncovered := &rules[i], 0
	var by []int // the earlier rules that decide what it would, from 0
	opposed := map[int][]string{}
	entries := c.entries(&g.Rules[i])
	if last.everybody {
		entries = []entry{{what: "everybody", in: func(r *rule) bool { return r.everybody }}}
	}
	for _, e := range entries {
		found := -1
		for j := range rules[:i] {
			if earlier := &rules[j]; (earlier.everybody || e.in(earlier)) && earlier.meets(last) {
				if earlier.does != last.does {
					opposed[j] = append(opposed[j], e.what)
				}
				if earlier.coversTimeOf(last) && (earlier.bases == 0 || last.bases > 0 && earlier.bases >= last.bases) {
					found = j
					break
				}
			}
		}
		if found < 0 {
			uncovered++
		} else if !slices.Contains(by, found) {
			by = append(by, found)
		}
	}
	if uncovered == 0 && len(by) > 0 && !last.choosesForAbsent() {
		c.warn(at, "Remove it, or move it up.", "rule %d never decides: %s already", i+1, decideWords(by))
		return
	}
	for j := range rules[:i] {
		if list := opposed[j]; len(list) > 0 {
			c.warn(at, "Take it off one of the two, or change their order.", "rule %d and rule %d contradict each other on %s: rule %d decides%s",
				j+1, i+1, some(list), j+1, overlap(&rules[j], last))
		}
	}
}

// choosesForAbsent says whether a rule decides about those whose location is not known.
func (r *rule) choosesForAbsent() bool {
	return slices.ContainsFunc(r.lacking[1:], func(does string) bool { return does != next })
}

// an entry is one thing that a rule holds for, in says whether another rule holds for all of it.
type entry struct {
	what string
	in   func(*rule) bool
}

func (c *checker) entries(r *Rule) (list []entry) {
	for _, code := range r.Countries {
		country, _ := almanac.ByCode(code)
		list = append(list, entry{country.Name, func(r *rule) bool { return r.countries.has(code) }})
	}
	for _, group := range r.Groups {
		var of codes
		for i, all := 0, almanac.All(); i < len(all); i++ {
			if c.known.Groups.Has(group, &all[i]) {
				of.add(all[i].Code)
			}
		}
		list = append(list, entry{"the group " + group, func(r *rule) bool {
			for i := range of {
				if of[i]&^r.countries[i] != 0 {
					return false
				}
			}
			return true
		}})
	}
	for _, code := range r.Regions {
		list = append(list, entry{code, func(r *rule) bool { return slices.Contains(r.regions, code) || r.countries.has(code[:2]) }})
	}
	for _, name := range r.Areas {
		list = append(list, entry{"the area " + name, func(r *rule) bool {
			for i := range r.areas {
				if r.areas[i].Name == name {
					return true
				}
			}
			return false
		}})
	}
	for _, label := range r.Labels {
		list = append(list, entry{"the label " + label, func(r *rule) bool { return slices.Contains(r.labels, label) }})
	}
	for _, word := range r.Kinds {
		kind, _ := addr.ParseKind(word)
		list = append(list, entry{word + " addresses", func(r *rule) bool { return r.kinds&(1<<kind) != 0 }})
	}
	for _, text := range r.Networks {
		n, isNumber := asNumber(text)
		p, _ := addr.ParsePrefix(text)
		list = append(list, entry{text, func(r *rule) bool {
			if isNumber {
				return slices.Contains(r.networks, n)
			}
			for _, wide := range r.prefixes {
				if wide.Bits() <= p.Bits() && wide.Contains(p.Addr()) {
					return true
				}
			}
			return false
		}})
	}
	return list
}

// meets says whether two rules ever hold at one time.
func (r *rule) meets(other *rule) bool {
	return (r.until.IsZero() || other.from.IsZero() || other.from.Before(r.until)) && (other.until.IsZero() || r.from.IsZero() || r.from.Before(other.until))
}

// coversTimeOf says whether a rule holds whenever another does.
func (r *rule) coversTimeOf(other *rule) bool {
	return (r.from.IsZero() || !other.from.IsZero() && !other.from.Before(r.from)) && (r.until.IsZero() || !other.until.IsZero() && !other.until.After(r.until))
}

// overlap says when two rules that hold at times hold together.
func overlap(a, b *rule) string {
	from, until := a.from, a.until
	if b.from.After(from) {
		from = b.from
	}
	if until.IsZero() || !b.until.IsZero() && b.until.Before(until) {
		until = b.until
	}
	words := ""
	if !from.IsZero() {
		words += " from " + from.UTC().Format(time.RFC3339)
	}
	if !until.IsZero() {
		words += " until " + until.UTC().Format(time.RFC3339)
	}
	return words
}

func decideWords(rules []int) string {
	slices.Sort(rules)
	words := make([]string, len(rules))
	for i, r := range rules {
		words[i] = fmt.Sprint(r + 1)
	}
	if len(words) == 1 {
		return "rule " + words[0] + " decides it"
	}
	return "rules " + strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1] + " decide it"
}

// some names the first of many.
func some(list []string) string {
	if len(list) <= 3 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:3], ", "), len(list)-3)
}
