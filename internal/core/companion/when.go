package companion

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// A condition is what the when of a category says: any of some lists of comparisons, of which all must
// hold.
type condition [][]comparison

type comparison struct {
	pick int // which value
	op   string
	// than is the value that it is compared with, of the type that the pick has.
	than Value
}

// tokens are the words of a condition.
var tokens = regexp.MustCompile(`^\s*("(?:[^"\\]|\\["\\])*"|<=|>=|!=|=|<|>|[A-Za-z_][A-Za-z0-9_]*|[-+]?[0-9]+(?:\.[0-9]+)?)`)

// readCondition reads a condition over picks. The error says what is wrong, and where.
func readCondition(text string, picks []Pick) (condition, error) {
	var words []string
	for rest := strings.TrimSpace(text); rest != ""; {
		found := tokens.FindString(rest)
		if found == "" {
			return nil, fmt.Errorf("%.20q is not understood: compare values with =, !=, <, <=, > or >=, joined by and, or", rest)
		}
		words, rest = append(words, strings.TrimSpace(found)), strings.TrimSpace(rest[len(found):])
	}
	if len(words) == 0 {
		return nil, fmt.Errorf("nothing is compared")
	}
	c := condition{nil}
	for at := 0; ; at += 4 {
		if len(words) < at+3 {
			return nil, fmt.Errorf("it ends in the middle of a comparison: write such as wind >= 17")
		}
		one, err := readComparison(words[at], words[at+1], words[at+2], picks)
		if err != nil {
			return nil, err
		}
		last := len(c) - 1
		c[last] = append(c[last], one)
		if len(words) == at+3 {
			return c, nil
		}
		switch words[at+3] {
		case "and":
		case "or":
			c = append(c, nil)
		default:
			return nil, fmt.Errorf("%.20q stands where and, or is expected", words[at+3])
		}
	}
}

func readComparison(name, op, than string, picks []Pick) (c comparison, err error) {
	c.pick = slices.IndexFunc(picks, func(p Pick) bool { return p.Name == name })
	if c.pick < 0 {
		return c, fmt.Errorf("%.40q is none of the values that you picked", name)
	}
	if c.op = op; !slices.Contains([]string{"=", "!=", "<", "<=", ">", ">="}, op) {
		return c, fmt.Errorf("%.20q stands where =, !=, <, <=, > or >= is expected", op)
	}
	switch kind := picks[c.pick].Type; {
	case kind == number:
		n, err := strconv.ParseFloat(than, 64)
		if err != nil {
			return c, fmt.Errorf("%s is a number, and %.20q is none", name, than)
		}
		c.than.Number = n
	case op != "=" && op != "!=":
		return c, fmt.Errorf("%s is no number: it can be compared with = and != only", name)
	case kind == boolean:
		if than != "true" && than != "false" {
			return c, fmt.Errorf("%s is true or false, and %.20q is neither", name, than)
		}
		c.than.Yes = than == "true"
	default:
		if len(than) < 2 || than[0] != '"' {
			return c, fmt.Errorf(`%s is a text: write "%.20s"`, name, than)
		}
		c.than.Text = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(than[1 : len(than)-1])
	}
	return c, nil
}

// holds says whether a condition is met: yes, no, or unknown, with the value that is missing, where that
// decides.
func (c condition) holds(picks []Pick, values []Value) (met bool, missing string) {
	for _, all := range c {
		met, lacks := true, ""
		for _, one := range all {
			v := &values[one.pick]
			if v.Missing != "" {
				lacks = picks[one.pick].Name
			} else if !one.holds(v, picks[one.pick].Type) {
				met = false
				break
			}
		}
		switch {
		case met && lacks == "":
			return true, ""
		case met:
			missing = lacks
		}
	}
	return false, missing
}

func (c *comparison) holds(v *Value, kind string) bool {
	order := 0
	switch {
	case kind == number && v.Number < c.than.Number, kind == text && v.Text != c.than.Text, kind == boolean && v.Yes != c.than.Yes:
		order = -1
	case kind == number && v.Number > c.than.Number:
		order = 1
	}
	switch c.op {
	case "=":
		return order == 0
	case "!=":
		return order != 0
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	}
	return order >= 0
}

// category gives the one category that is active for some values: the first whose condition is met, else the
// default. It is "", with the reason, where a value is missing that decides.
func (c *Compiled) category(values []Value) (name, reason string) {
	for i, one := range c.Categories {
		met, missing := c.conditions[i].holds(c.Values, values)
		if met {
			return one.Name, ""
		}
		if missing != "" {
			return "", fmt.Sprintf("%s is missing, which decides whether it is %s", missing, one.Name)
		}
	}
	if c.Default == "" {
		if len(c.Categories) == 0 {
			return "", "the companion has no categories"
		}
		return "", "no condition is met, and the companion has no default"
	}
	return c.Default, ""
}
