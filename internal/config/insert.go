package config

import (
	"bytes"
	"cmp"
	"reflect"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// write gives the text of an edited document: the owner's own text, with what is new put where
// it belongs. Nodes that are new have no line, and a value in the place of another has its line
// below 0 (see [set]). Where the text cannot be edited so, all of it is written anew.
func write(text []byte, doc *yaml.Node) (string, error) {
	whole, err := encoded(doc)
	if err != nil || len(bytes.TrimSpace(text)) == 0 {
		return whole, err
	}
	in := inserter{lines: strings.SplitAfter(string(text), "\n")}
	if n := len(in.lines) - 1; in.lines[n] == "" {
		in.lines = in.lines[:n]
	} else {
		in.lines[n] += "\n"
	}
	if in.visit(doc.Content[0]) {
		var got, want any
		kept := in.apply()
		if yaml.Unmarshal([]byte(kept), &got) == nil && doc.Decode(&want) == nil && reflect.DeepEqual(got, want) {
			return kept, nil
		}
	}
	return whole, nil
}

func encoded(n *yaml.Node) (string, error) {
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	err := cmp.Or(e.Encode(n), e.Close())
	return out.String(), err
}

// An inserter collects what is to be put into lines.
type inserter struct {
	lines []string
	edits []edit
}

// An edit puts text in the place of some bytes of a line; of a whole line's end, behind it.
type edit struct {
	line, from, to int // counted from 0
	text           string
}

// visit collects what is new in a node that stands in the text; ok is false where it cannot.
func (in *inserter) visit(n *yaml.Node) (ok bool) {
	switch n.Kind {
	case yaml.MappingNode:
		fresh := &yaml.Node{Kind: yaml.MappingNode}
		for i := 0; i+1 < len(n.Content); i += 2 {
			key, value := n.Content[i], n.Content[i+1]
			switch {
			case key.Line == 0:
				fresh.Content = append(fresh.Content, key, value)
			case value.Line < 0:
				if !in.replace(value) {
					return false
				}
			case value.Line == 0 || !in.visit(value): // something else than was there
				return false
			}
		}
		return in.add(n, fresh)
	case yaml.SequenceNode:
		fresh := &yaml.Node{Kind: yaml.SequenceNode}
		for _, item := range n.Content {
			if item.Line == 0 {
				fresh.Content = append(fresh.Content, item)
			} else if !in.visit(item) {
				return false
			}
		}
		return in.add(n, fresh)
	}
	return true
}

// add puts new members behind those of a mapping or list.
func (in *inserter) add(to, fresh *yaml.Node) bool {
	if len(fresh.Content) == 0 {
		return true
	}
	if to.Style&yaml.FlowStyle != 0 {
		return in.addInside(to, fresh)
	}
	if len(to.Content) == len(fresh.Content) { // it has no member whose place would tell
		return false
	}
	text, err := encoded(fresh)
	if err != nil {
		return false
	}
	indent := strings.Repeat(" ", to.Column-1)
	var block strings.Builder
	for line := range strings.Lines(text) {
		block.WriteString(indent + line)
	}
	last := in.lastLine(to)
	for last < len(in.lines) && indentOf(in.lines[last]) > to.Column-1 { // what goes on with its last member
		last++
	}
	end := len(in.lines[last-1])
	in.edits = append(in.edits, edit{last - 1, end, end, block.String()})
	return true
}

// addInside is add for what stands between brackets.
func (in *inserter) addInside(to, fresh *yaml.Node) bool {
	fresh.Style = yaml.FlowStyle
	text, err := encoded(fresh)
	text = strings.TrimSpace(text)
	if err != nil || strings.Contains(text, "\n") {
		return false
	}
	text = text[1 : len(text)-1] // without its brackets
	line, at, ok := in.closing(to.Line-1, to.Column-1)
	if !ok {
		return false
	}
	before := strings.TrimRight(in.lines[line][:at], " \t")
	if before == "" && line > 0 { // the bracket stands on a line of its own: behind what stands above it
		line--
		if before = strings.TrimRight(in.lines[line], " \t\n"); strings.Contains(before, "#") {
			return false
		}
		if strings.HasSuffix(before, ",") {
			in.edits = append(in.edits, edit{line + 1, 0, 0, before[:max(0, indentOf(before))] + text + ",\n"})
			return true
		}
	}
	switch {
	case strings.HasSuffix(before, ","):
		text = " " + text
	case len(to.Content) > len(fresh.Content):
		text = ", " + text
	}
	in.edits = append(in.edits, edit{line, len(before), len(before), text})
	return true
}

// closing finds the bracket that closes the one at a place.
func (in *inserter) closing(line, at int) (int, int, bool) {
	if line < 0 {
		return 0, 0, false
	}
	depth, quote := 0, byte(0)
	for ; line < len(in.lines); line, at = line+1, 0 {
		text := in.lines[line]
		for ; at < len(text); at++ {
			c := text[at]
			switch {
			case quote == '"' && c == '\\', quote == '\'' && strings.HasPrefix(text[at:], "''"):
				at++
			case quote != 0:
				if c == quote {
					quote = 0
				}
			case c == '"' || c == '\'' && (at == 0 || strings.IndexByte(" ,[{:", text[at-1]) >= 0):
				quote = c
			case c == '#' && at > 0 && text[at-1] == ' ':
				at = len(text)
			case c == '[' || c == '{':
				depth++
			case c == ']' || c == '}':
				if depth--; depth == 0 {
					return line, at, true
				}
			}
		}
	}
	return 0, 0, false
}

// replace puts a value in the place of one that was written on one line.
func (in *inserter) replace(value *yaml.Node) bool {
	line, from := -value.Line-1, value.Column-1
	clean := &yaml.Node{Kind: value.Kind, Tag: value.Tag, Value: value.Value, Style: value.Style, Content: value.Content}
	text, err := encoded(clean)
	text = strings.TrimSpace(text)
	if err != nil || line >= len(in.lines) || strings.Contains(text, "\n") {
		return false
	}
	rest := strings.TrimRight(in.lines[line][from:], "\n")
	end := len(rest)
	switch {
	case rest == "":
		return false
	case rest[0] == '{' || rest[0] == '[':
		closed, at, ok := in.closing(line, from)
		if !ok || closed != line {
			return false
		}
		end = at + 1 - from
	case value.Kind != yaml.ScalarNode:
		return false
	case rest[0] == '"' || rest[0] == '\'':
		closed := strings.IndexByte(rest[1:], rest[0])
		if closed < 0 || strings.Contains(rest[:closed+1], `\`) {
			return false
		}
		end = closed + 2
	case strings.ContainsRune("|>&*!", rune(rest[0])):
		return false
	default:
		if i := strings.Index(rest, " #"); i >= 0 {
			end = i
		}
		if i := strings.IndexAny(rest[:end], ",]}"); i >= 0 { // between brackets; what is no separator is found when it is read again
			end = i
		}
		end = len(strings.TrimRight(rest[:end], " \t"))
	}
	in.edits = append(in.edits, edit{line, from, from + end, text})
	return true
}

// apply gives the text with all edits, the last first, so that none moves another.
func (in *inserter) apply() string {
	slices.Reverse(in.edits) // what belongs to an inner part comes before what belongs to an outer one
	slices.SortStableFunc(in.edits, func(a, b edit) int { return cmp.Or(b.line-a.line, b.from-a.from) })
	for _, e := range in.edits {
		l := in.lines[e.line]
		in.lines[e.line] = l[:e.from] + e.text + l[e.to:]
	}
	return strings.Join(in.lines, "")
}

// lastLine is the number of the last line that a node begins one of its parts on, or that its
// bracket closes on.
func (in *inserter) lastLine(n *yaml.Node) int {
	last := n.Line
	if line, _, ok := in.closing(n.Line-1, n.Column-1); ok && n.Line > 0 && n.Kind != yaml.ScalarNode && n.Style&yaml.FlowStyle != 0 {
		last = line + 1
	}
	for _, c := range n.Content {
		last = max(last, in.lastLine(c), -c.Line)
	}
	return last
}

// indentOf counts the spaces that a line begins with; an empty one is no part of what stands
// above it.
func indentOf(line string) int {
	text := strings.TrimLeft(line, " ")
	if strings.TrimSpace(text) == "" {
		return -1
	}
	return len(line) - len(text)
}
