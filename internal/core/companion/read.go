package companion

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"github.com/shopspring/decimal"

	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/secret"
)

// A Value is what was picked of an answer: of the type that the pick says, or missing with the reason.
type Value struct {
	Number  float64
	Text    string // of a number: as the service wrote it
	Yes     bool
	Missing string
}

// A Reading is what a companion makes of an answer. It is immutable.
type Reading struct {
	Values []Value // in the order of the picks
	Active string  // the category; "" for none
	Reason string  // why there is none
}

// Read reads the body of an answer. Wherever a secret stands in it, a mask is put. The error says what is wrong
// with it as a whole: it is not JSON, or nothing that was picked is in it, which may be an error that was
// answered with 200.
func (c *Compiled) Read(body []byte, secrets secret.Values) (*Reading, error) {
	tree, err := readTree(body)
	if err != nil {
		return nil, err
	}
	tree.hide(secrets)
	r := &Reading{Values: make([]Value, len(c.Values))}
	found := len(c.Values) == 0
	for i, p := range c.Values {
		r.Values[i] = pick(tree, c.pointers[i], &p)
		found = found || r.Values[i].Missing == ""
	}
	if !found {
		return nil, fmt.Errorf("%w: nothing that you picked is in it; %s is %s", errAnswer, c.Values[0].Name, r.Values[0].Missing)
	}
	r.Active, r.Reason = c.category(r.Values)
	return r, nil
}

// Lines shows the body of an answer, a value a line, with the pointer to each, and says how many more lines
// there are. What is not JSON is shown as it is, as far as that can be.
func Lines(body []byte, secrets secret.Values) (lines []Line, cut int) {
	tree, err := readTree(body)
	if err == nil {
		tree.hide(secrets)
		return tree.lines()
	}
	lines = []Line{}
	for line := range strings.Lines(secrets.Hide(string(body))) {
		if len(lines) == 40 {
			cut++
			continue
		}
		lines = append(lines, Line{Text: plain.Clean(strings.TrimRight(line, "\r\n"), 400)})
	}
	return lines, cut
}

func pick(tree *node, to pointer, p *Pick) (v Value) {
	n := tree.find(to)
	switch {
	case n == nil:
		v.Missing = fmt.Sprintf("not in the answer, at %s", p.Pointer)
	case n.kind == 'n':
		v.Missing = "null in the answer"
	case n.kind == '{' || n.kind == '[':
		v.Missing = "not a single value, but an object or a list"
	case p.Type == number:
		v.Text, v.Missing = n.text, n.number(&v.Number)
	case p.Type == boolean:
		if v.Yes = n.text == "true"; n.kind != 't' && n.text != "true" && n.text != "false" {
			v.Missing = n.is() + ", neither true nor false"
		}
	case n.kind != '"':
		v.Missing = n.is() + ", not a text"
	default:
		text, cut := short(n.text)
		if cut {
			text += "…"
		}
		v.Text = plain.Clean(text, 4*longest+4)
	}
	return v
}

// number reads a number (RFC 8259, section 6), also where it is written as a text.
func (n *node) number(into *float64) (missing string) {
	const wants = ", not a number"
	if n.kind != '0' && (n.kind != '"' || !isNumber.MatchString(n.text)) {
		return n.is() + wants
	}
	v, err := strconv.ParseFloat(n.text, 64)
	if err != nil || math.IsInf(v, 0) || len(n.text) > 40 {
		return "a number out of bounds"
	}
	*into = v
	return ""
}

// is says what a value is.
func (n *node) is() string {
	switch n.kind {
	case '"':
		text, _ := short(n.text)
		return "the text " + strconv.Quote(plain.Clean(text, 40))
	case '0':
		return "a number"
	}
	return n.text
}

// isNumber is how numbers of JSON are written.
var isNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?$`)

// mostDecimals is how many decimals of a value are shown.
const mostDecimals = 4

// human writes a value by the habits of a language (BCP 47).
func human(v *Value, p *Pick, tag string) string {
	out := v.Text
	switch p.Type {
	case boolean:
		out = strconv.FormatBool(v.Yes)
	case number:
		d, err := decimal.NewFromString(v.Text)
		if err != nil || d.Exponent() > 30 || d.Exponent() < -400 {
			d = decimal.NewFromFloat(v.Number)
		}
		out = locale.FormatNumber(d, min(max(0, -d.Exponent()), mostDecimals), tag)
	}
	switch p.Unit {
	case "":
	case "%", "°":
		out += p.Unit
	default:
		out += "\u00a0" + p.Unit
	}
	return out
}
