package notice

import (
	"bytes"
	"errors"
	"fmt"
	"html/template"
	"regexp"
	"slices"
	"strings"
	texttemplate "text/template"
	"text/template/parse"
)

// A Layout is a text with facts, in a part of the language of Go's templates: {{.city}} is a fact, and the line
// that has it is dropped where the fact is missing; {{or .city .region "an unknown town"}} is the first of some that
// is there, and at its end the owner's own word. There are no loops, conditions or functions. The zero Layout is
// empty. It is immutable and safe for concurrent use.
type Layout struct {
	lines []layoutLine
	html  bool
}

type layoutLine struct {
	text  string
	needs []string // facts without which the line is dropped
	names []string // all facts
}

// A LayoutError says what is wrong with a layout, and where.
type LayoutError struct {
	Line   int // 1 is the first
	Reason string
}

func (e *LayoutError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Reason) }

var (
	statements = regexp.MustCompile(`\{\{-?\s*(range|if|with|define|template|block|end|else|break|continue)\b`)
	wholePages = regexp.MustCompile(`(?i)<\s*(!doctype|html|head|body|script|iframe|form|object|embed|base|meta|link)\b`)
)

// ParseText reads a layout of plain text. known says which facts there are. The error is a [*LayoutError].
func ParseText(text string, known func(fact string) bool) (Layout, error) {
	return parseLayout(text, known)
}

// ParseHTML is [ParseText] for what stands inside the body of a page of HTML. Facts are escaped by where they stand.
func ParseHTML(text string, known func(fact string) bool) (Layout, error) {
	l, err := parseLayout(text, known)
	if l.html = true; err != nil {
		return l, err
	}
	for i, line := range l.lines {
		if found := wholePages.FindStringSubmatch(line.text); found != nil {
			return l, &LayoutError{i + 1, fmt.Sprintf("<%s> has no place in a mail; give what stands inside body", strings.ToLower(found[1]))}
		}
	}
	full, none := NewFacts(), NewFacts()
	for _, name := range l.Names() {
		full.Values[name] = "x"
	}
	for _, facts := range []Facts{full, none} { // it must be whole with and without the lines that are dropped
		if _, _, err := l.Write(facts); err != nil {
			return l, &LayoutError{1, plainReason(err)}
		}
	}
	return l, nil
}

func parseLayout(text string, known func(string) bool) (l Layout, err error) {
	if text == "" {
		return l, nil
	}
	for i, line := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		read, err := parseLine(line, known)
		if err != nil {
			return l, &LayoutError{i + 1, err.Error()}
		}
		l.lines = append(l.lines, read)
	}
	return l, nil
}

func parseLine(text string, known func(string) bool) (line layoutLine, err error) {
	line.text = text
	if strings.ContainsFunc(text, func(r rune) bool {
		return r < ' ' && r != '\t' || r == 0x7f || r == '\u2028' || r == '\u2029' || r == 0x85
	}) {
		return line, errors.New("it has a control character")
	}
	if found := statements.FindStringSubmatch(text); found != nil {
		return line, fmt.Errorf("layouts have no %s; a line is dropped by itself where its fact is missing", found[1])
	}
	trees, err := parse.Parse("line", text, "{{", "}}", map[string]any{"or": fmt.Sprint})
	if err != nil {
		return line, errors.New(plainReason(err))
	}
	if trees["line"] == nil || trees["line"].Root == nil {
		return line, nil
	}
	for _, node := range trees["line"].Root.Nodes {
		action, ok := node.(*parse.ActionNode)
		if !ok {
			continue // text
		}
		names, whole, err := readAction(action)
		if err != nil {
			return line, err
		}
		for _, name := range names {
			if !known(name) {
				return line, fmt.Errorf("there is no fact %.60q here", name)
			}
		}
		if line.names = append(line.names, names...); whole {
			line.needs = append(line.needs, names...)
		}
	}
	return line, nil
}

var errAction = errors.New(`write {{.city}} for a fact, or {{or .city "an unknown town"}} to say something else where it is missing`)

// readAction gives the facts of an action; needed says that it has nothing else to say.
func readAction(a *parse.ActionNode) (names []string, needed bool, err error) {
	if len(a.Pipe.Decl) > 0 || len(a.Pipe.Cmds) != 1 {
		return nil, false, errAction
	}
	args := a.Pipe.Cmds[0].Args
	switch first := args[0].(type) {
	case *parse.FieldNode:
		if len(args) != 1 {
			return nil, false, errAction
		}
		return []string{strings.Join(first.Ident, ".")}, true, nil
	case *parse.IdentifierNode:
		args = args[1:]
		for i, arg := range args {
			switch arg := arg.(type) {
			case *parse.FieldNode:
				names = append(names, strings.Join(arg.Ident, "."))
			case *parse.StringNode:
				if i != len(args)-1 || i == 0 || strings.TrimSpace(arg.Text) == "" || strings.ContainsAny(arg.Text, "\r\n") {
					return nil, false, errAction
				}
				return names, false, nil
			default:
				return nil, false, errAction
			}
		}
		return nil, false, errAction // it needs a word at its end
	}
	return nil, false, errAction
}

// plainReason takes what names files and templates out of an error of a template.
func plainReason(err error) string {
	text := err.Error()
	if i := strings.LastIndex(text, "line:"); i >= 0 {
		if _, rest, ok := strings.Cut(text[i:], ": "); ok {
			text = rest
		}
	}
	return strings.TrimPrefix(text, "html/template:")
}

// Names are the facts that the layout has, each once.
func (l Layout) Names() []string {
	var names []string
	for _, line := range l.lines {
		names = append(names, line.names...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Write writes the layout with facts. lines say what became of each line of it; those of HTML have no text.
func (l Layout) Write(f Facts) (text string, lines []Line, err error) {
	var kept []string
	data := l.data(f)
	for _, line := range l.lines {
		if at := slices.IndexFunc(line.needs, func(name string) bool { return f.Values[name] == "" }); at >= 0 {
			reason := "no " + line.needs[at] + ": " + f.Why(line.needs[at])
			lines = append(lines, Line{Dropped: &reason})
			continue
		}
		if l.html {
			lines = append(lines, Line{})
			kept = append(kept, line.text)
			continue
		}
		written, err := execute(line.text, data)
		if err != nil {
			return "", nil, err
		}
		lines = append(lines, Line{Text: written})
		kept = append(kept, written)
	}
	text = strings.Join(kept, "\n")
	if l.html {
		var b bytes.Buffer
		t, err := template.New("line").Parse(text)
		if err == nil {
			err = t.Execute(&b, data)
		}
		if err != nil {
			return "", nil, err
		}
		text = b.String()
	}
	return text, lines, nil
}

func execute(line string, data map[string]any) (string, error) {
	if !strings.Contains(line, "{{") {
		return line, nil
	}
	var b strings.Builder
	t, err := texttemplate.New("line").Parse(line)
	if err == nil {
		err = t.Execute(&b, data)
	}
	return b.String(), err
}

// data are the facts that the layout has, as templates reach for them.
func (l Layout) data(f Facts) map[string]any {
	data := map[string]any{}
	for _, name := range l.Names() {
		at := data
		first, second, nested := strings.Cut(name, ".")
		if nested {
			inner, ok := data[first].(map[string]any)
			if !ok {
				inner = map[string]any{}
				data[first] = inner
			}
			at, first = inner, second
		}
		at[first] = f.Values[name]
	}
	return data
}
