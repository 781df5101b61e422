package companion

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"eastporch/internal/core/secret"
)

// Bounds of an answer.
const (
	MaxBytes = 1 << 20 // of an answer's body
	maxDepth = 64
	maxNodes = 200_000
	maxLines = 1_000
)

// A node is a value of a JSON document (RFC 8259), with its members in the order in which they were
// written.
type node struct {
	kind byte   // { [ " 0 (a number) t (true or false) n (null)
	text string // of a string, a number, true, false
	keys []string
	subs []*node
}

// errAnswer is wrapped by what is wrong with an answer as a whole.
var errAnswer = errors.New("the answer is not usable")

// readTree reads a JSON document.
func readTree(text []byte) (*node, error) {
	if !utf8.Valid(text) {
		return nil, fmt.Errorf("%w: it is not UTF-8", errAnswer)
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if len(bytes.TrimSpace(text)) == 0 {
		return nil, fmt.Errorf("%w: it is empty", errAnswer)
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	r := &treeReader{d: d}
	root, err := r.value(0)
	if err == nil {
		if _, more := d.Token(); !errors.Is(more, io.EOF) {
			err = fmt.Errorf("%w: it goes on after the JSON", errAnswer)
		}
	}
	if err == nil || errors.Is(err, errAnswer) {
		return root, err
	}
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("<")) {
		return nil, fmt.Errorf("%w: it is HTML or XML, not JSON", errAnswer)
	}
	return nil, fmt.Errorf("%w: it is not JSON, or broken off", errAnswer)
}

type treeReader struct {
	d     *json.Decoder
	nodes int
}

func (r *treeReader) value(depth int) (*node, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w: it is nested more than %d deep", errAnswer, maxDepth)
	}
	if r.nodes++; r.nodes > maxNodes {
		return nil, fmt.Errorf("%w: it has more than %d values", errAnswer, maxNodes)
	}
	token, err := r.d.Token()
	if err != nil {
		return nil, err
	}
	switch v := token.(type) {
	case string:
		return &node{kind: '"', text: v}, nil
	case json.Number:
		return &node{kind: '0', text: v.String()}, nil
	case bool:
		return &node{kind: 't', text: strconv.FormatBool(v)}, nil
	case nil:
		return &node{kind: 'n', text: "null"}, nil
	}
	n := &node{kind: '['}
	if token == json.Delim('{') {
		n.kind = '{'
	}
	for r.d.More() {
		if n.kind == '{' {
			key, err := r.d.Token()
			if err != nil {
				return nil, err
			}
			n.keys = append(n.keys, key.(string)) // which it is, before a value
		}
		sub, err := r.value(depth + 1)
		if err != nil {
			return nil, err
		}
		n.subs = append(n.subs, sub)
	}
	_, err = r.d.Token() // that closes it
	return n, err
}

// pointer is a JSON Pointer (RFC 6901).
type pointer []string

// readPointer reads a JSON Pointer. The empty text is the whole document.
func readPointer(text string) (pointer, error) {
	if text == "" {
		return nil, nil
	}
	if text[0] != '/' {
		return nil, fmt.Errorf("%.60q does not begin with /", text)
	}
	var p pointer
	for part := range strings.SplitSeq(text[1:], "/") {
		for i := 0; i < len(part); i++ {
			if part[i] == '~' && (i+1 == len(part) || part[i+1] != '0' && part[i+1] != '1') {
				return nil, fmt.Errorf("%.60q has a ~ that is followed by neither 0 nor 1", text)
			}
		}
		p = append(p, strings.ReplaceAll(strings.ReplaceAll(part, "~1", "/"), "~0", "~"))
	}
	return p, nil
}

// find gives the value that p leads to, nil for none. Of members with the same name the last counts.
func (n *node) find(p pointer) *node {
	for _, part := range p {
		var next *node
		switch n.kind {
		case '{':
			for i, key := range n.keys {
				if key == part {
					next = n.subs[i]
				}
			}
		case '[':
			if i, err := strconv.Atoi(part); err == nil && strconv.Itoa(i) == part && i >= 0 && i < len(n.subs) {
				next = n.subs[i]
			}
		}
		if next == nil {
			return nil
		}
		n = next
	}
	return n
}

// hide puts a mask wherever a text holds a secret.
func (n *node) hide(s secret.Values) {
	if n.text = s.Hide(n.text); n.kind == '0' && strings.Contains(n.text, secret.Mask) {
		n.kind = '"'
	}
	for i := range n.keys {
		n.keys[i] = s.Hide(n.keys[i])
	}
	for _, sub := range n.subs {
		sub.hide(s)
	}
}

// shownItems is how many items of a list are shown before the rest is counted.
const shownItems = 3

// lines writes the tree, a value a line, and gives how many more there would be.
func (n *node) lines() (list []Line, cut int) {
	list = []Line{}
	add := func(l Line) {
		if len(list) < maxLines {
			list = append(list, l)
		} else {
			cut++
		}
	}
	var write func(n *node, depth int, before, at, after string)
	write = func(n *node, depth int, before, at, after string) {
		if n.kind != '{' && n.kind != '[' {
			text, kind := n.text, map[byte]string{'"': "text", '0': "number", 't': "boolean", 'n': "null"}[n.kind]
			if kind == "text" {
				text = quoted(text)
			}
			add(Line{Depth: depth, Before: before, Text: text, After: after, Pointer: &at, Type: kind})
			return
		}
		open, shut := string(n.kind), string(n.kind+2) // as ASCII has them
		if len(n.subs) == 0 {
			add(Line{Depth: depth, Before: before + open + shut, After: after})
			return
		}
		add(Line{Depth: depth, Before: before + open})
		for i, sub := range n.subs {
			key, name := "", strconv.Itoa(i)
			if n.kind == '{' {
				key, name = quoted(n.keys[i])+": ", strings.ReplaceAll(strings.ReplaceAll(n.keys[i], "~", "~0"), "/", "~1")
			} else if i == shownItems && len(n.subs) > shownItems+1 {
				add(Line{Depth: depth + 1, Before: fmt.Sprintf("… %d more", len(n.subs)-shownItems)})
				break
			}
			comma := ","
			if i == len(n.subs)-1 {
				comma = ""
			}
			write(sub, depth+1, key, at+"/"+name, comma)
		}
		add(Line{Depth: depth, Before: shut, After: after})
	}
	write(n, 0, "", "", "")
	return list, cut
}

// longest is how many characters of a text are shown, in a line and as a value.
const longest = 200

func quoted(text string) string {
	text, cut := short(text)
	b, _ := json.Marshal(text) // a string always marshals
	out := strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(b))
	if cut {
		out = out[:len(out)-1] + `…"`
	}
	return out
}

// short cuts what is too long.
func short(text string) (string, bool) {
	if len(text) <= longest {
		return text, false
	}
	runes := []rune(text)
	if len(runes) <= longest {
		return text, false
	}
	return string(runes[:longest]), true
}
