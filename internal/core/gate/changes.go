package gate

import (
	"fmt"
	"reflect"
	"slices"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/plain"
)

// Changes says what differs between two versions of rules, in sentences without a full stop, such as
// "added Japan to rule 3 of Early entry".
func Changes(before, after Rules) []string {
	said := []string{}
	say := func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }
	lists(before.Exceptions.Labels, after.Exceptions.Labels, "the exceptions", "the label ", say)
	lists(before.Exceptions.Paths, after.Exceptions.Paths, "the exceptions", "", say)
	find := func(r Rules, name string) *Gate {
		for i := range r.Gates {
			if r.Gates[i].Name == name {
				return &r.Gates[i]
			}
		}
		return nil
	}
	for i := range before.Gates {
		if g := &before.Gates[i]; find(after, g.Name) == nil {
			say("removed the gate %s", g.Name)
		}
	}
	for i := range after.Gates {
		now := &after.Gates[i]
		was := find(before, now.Name)
		if was == nil {
			say("added the gate %s at %s, %s with %s", now.Name, now.Path, article(now.List), plain.Count(len(now.Rules), "rule"))
			continue
		}
		changed(was, now, say)
	}
	if len(said) == 0 && !reflect.DeepEqual(before, after) {
		say("changed the order of the gates")
	}
	return said
}

func article(l List) string { return map[List]string{Allow: "an allow list", Deny: "a deny list"}[l] }

func changed(was, now *Gate, say func(string, ...any)) {
	name := now.Name
	if was.Mode != now.Mode {
		say("turned %s from %s to %s", name, was.Mode, now.Mode)
	}
	if was.List != now.List {
		say("made %s %s", name, article(now.List))
	}
	if was.Path != now.Path {
		say("moved %s from %s to %s", name, was.Path, now.Path)
	}
	for i := range Absences {
		if a, b := was.Missing.of(absence(i+1)), now.Missing.of(absence(i+1)); a != b {
			say("%s where %s at %s, instead of %s", b, absenceWords[i+1], name, a)
		}
	}
	if !reflect.DeepEqual(was.Refusal, now.Refusal) {
		say("changed what those read whom %s refuses", name)
	}
	rules(was, now, say)
}

// rules compares rules by their place; where there are more or fewer, by what they say.
func rules(was, now *Gate, say func(string, ...any)) {
	if len(was.Rules) == len(now.Rules) {
		moved := permuted(was.Rules, now.Rules)
		if moved {
			say("changed the order of the rules of %s", now.Name)
			return
		}
		for i := range now.Rules {
			ruleChanged(&was.Rules[i], &now.Rules[i], fmt.Sprintf("rule %d of %s", i+1, now.Name), say)
		}
		return
	}
	for i := range was.Rules {
		if !slices.ContainsFunc(now.Rules, func(r Rule) bool { return reflect.DeepEqual(r, was.Rules[i]) }) {
			say("removed rule %d of %s, or changed it", i+1, now.Name)
		}
	}
	for i := range now.Rules {
		if !slices.ContainsFunc(was.Rules, func(r Rule) bool { return reflect.DeepEqual(r, now.Rules[i]) }) {
			say("added rule %d to %s", i+1, now.Name)
		}
	}
}

// permuted says whether two lists have the same rules in another order.
func permuted(a, b []Rule) bool {
	if reflect.DeepEqual(a, b) {
		return false
	}
	left := slices.Clone(b)
	for _, r := range a {
		i := slices.IndexFunc(left, func(other Rule) bool { return reflect.DeepEqual(r, other) })
		if i < 0 {
			return false
		}
		left = slices.Delete(left, i, i+1)
	}
	return true
}

func ruleChanged(was, now *Rule, where string, say func(string, ...any)) {
	if was.Do != now.Do {
		say("made %s %s", where, now.Do)
	}
	lists(names(was.Countries), names(now.Countries), where, "", say)
	lists(was.Groups, now.Groups, where, "the group ", say)
	lists(was.Regions, now.Regions, where, "", say)
	lists(was.Areas, now.Areas, where, "the area ", say)
	lists(was.Labels, now.Labels, where, "the label ", say)
	lists(was.Kinds, now.Kinds, where, "the kind ", say)
	lists(was.Networks, now.Networks, where, "", say)
	if was.From != now.From || was.Until != now.Until || was.TimeZone != now.TimeZone {
		say("changed the times of %s", where)
	}
	if was.Basis != now.Basis {
		say("changed the least basis of %s", where)
	}
	if !reflect.DeepEqual(was.Missing, now.Missing) {
		say("changed what %s does without a location", where)
	}
}

func names(codes []string) (list []string) {
	for _, code := range codes {
		if c, ok := almanac.ByCode(code); ok {
			code = c.Name
		}
		list = append(list, code)
	}
	return list
}

// lists says what was added to a list and removed from it.
func lists(was, now []string, where, kind string, say func(string, ...any)) {
	var added, removed []string
	for _, one := range now {
		if !slices.Contains(was, one) {
			added = append(added, kind+one)
		}
	}
	for _, one := range was {
		if !slices.Contains(now, one) {
			removed = append(removed, kind+one)
		}
	}
	if len(added) > 0 {
		say("added %s to %s", some(added), where)
	}
	if len(removed) > 0 {
		say("removed %s from %s", some(removed), where)
	}
}
