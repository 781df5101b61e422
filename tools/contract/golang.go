package main

import (
	"bytes"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

const module = "eastporch/"

// packages are those that x-go-type may name a type of.
var packages = map[string]string{
	"json": "encoding/json", "time": "time", "uuid": "github.com/google/uuid", "decimal": "github.com/shopspring/decimal",
	"addr": module + "internal/core/addr", "gate": module + "internal/core/gate",
	"card": module + "internal/core/card", "companion": module + "internal/core/companion", "caller": module + "internal/core/caller", "rehearsal": module + "internal/core/rehearsal", "visit": module + "internal/core/visit", "locale": module + "internal/core/locale",
}

// A writer writes the types of one package.
type writer struct {
	c       *contract
	dir     string
	body    bytes.Buffer
	imports map[string]bool
}

func (w *writer) file() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\n\npackage %s\n\n", generated, path.Base(w.dir))
	if len(w.imports) > 0 {
		b.WriteString("import (\n")
		for _, group := range []func(string) bool{isStandard, isTheirs, isOurs} {
			for _, p := range slices.Sorted(maps.Keys(w.imports)) {
				if group(p) {
					fmt.Fprintf(&b, "\t%q\n", p)
				}
			}
			b.WriteString("\n")
		}
		b.WriteString(")\n")
	}
	b.Write(w.body.Bytes())
	return b.Bytes()
}

func isOurs(path string) bool     { return strings.HasPrefix(path, module) }
func isStandard(path string) bool { return !isOurs(path) && !strings.Contains(path, ".") }
func isTheirs(path string) bool   { return !isOurs(path) && !isStandard(path) }

// A field is one of a struct.
type field struct {
	name, key, kind, said string
	optional              bool // it may be left out
}

func (w *writer) schema(s *schema) error {
	switch {
	case get(s.node, "x-go-hand") != nil || str(s.node, "x-go-type") != "":
		return nil
	case get(s.node, "enum") != nil && get(s.node, "properties") == nil:
		w.said(s.goes, s.node)
		fmt.Fprintf(&w.body, "type %s string\n", s.goes)
		return nil
	case get(s.node, "properties") == nil:
		kind, err := w.goType(s.goes, s.node)
		if err != nil {
			return err
		}
		w.said(s.goes, s.node)
		fmt.Fprintf(&w.body, "type %s %s\n", s.goes, kind)
		return nil
	}
	return w.object(s.goes, s.node)
}

// said writes the comment of a type.
func (w *writer) said(name string, n *yaml.Node) {
	text := strings.TrimSpace(str(n, "description"))
	if text == "" {
		text = "as the contract has it."
	}
	lines := strings.Split(text, "\n")
	fmt.Fprintf(&w.body, "\n// %s: %s\n", name, lines[0])
	for _, line := range lines[1:] {
		fmt.Fprintf(&w.body, "// %s\n", line)
	}
}

// object writes a struct, and before it those of its own objects.
func (w *writer) object(name string, n *yaml.Node) error {
	var fields []field
	embedded, inherited := "", map[string]bool{}
	if from := str(n, "x-go-embed"); from != "" {
		base := w.c.by[from]
		if base == nil {
			return fmt.Errorf("x-go-embed: there is no %s", from)
		}
		embedded = w.named(base)
		for key := range pairs(get(base.node, "properties")) {
			inherited[key] = true
		}
	}
	required := words(get(n, "required"))
	for key, node := range pairs(get(n, "properties")) {
		if inherited[key] {
			if embedded != "" { // it stands where its first field would
				fields = append(fields, field{name: embedded})
				embedded = ""
			}
			continue
		}
		f := field{name: goName(key), key: key, optional: !slices.Contains(required, key), said: strings.TrimSpace(str(node, "description"))}
		if own := str(node, "x-go-name"); own != "" {
			f.name = own
		}
		var err error
		if f.kind, err = w.goType(name+f.name, node); err != nil {
			return fmt.Errorf("%s: %w", key, err)
		}
		if f.optional && !w.mayBeNil(f.kind) && f.kind != "bool" && get(node, "x-go-empty") == nil {
			f.kind = "*" + f.kind
		}
		fields = append(fields, f)
	}
	w.said(name, n)
	fmt.Fprintf(&w.body, "type %s struct {\n", name)
	for _, f := range fields {
		if f.key == "" {
			fmt.Fprintf(&w.body, "\t%s\n", f.name)
			continue
		}
		tag := f.key
		if f.optional {
			tag += ",omitempty"
		}
		fmt.Fprintf(&w.body, "\t%s %s `json:%q`", f.name, f.kind, tag)
		if line, _, more := strings.Cut(f.said, "\n"); line != "" && !more {
			fmt.Fprintf(&w.body, " // %s", line)
		}
		w.body.WriteString("\n")
	}
	if also := str(n, "x-go-also"); also != "" {
		fmt.Fprintf(&w.body, "\t%s `json:\"-\"`\n", also)
	}
	w.body.WriteString("}\n")
	if get(n, "x-go-append") != nil {
		return w.appender(name, fields)
	}
	return nil
}

// named gives the name of a schema's type as this package writes it.
func (w *writer) named(s *schema) string {
	if s.dir == w.dir {
		return s.goes
	}
	w.imports[module+s.dir] = true
	return path.Base(s.dir) + "." + s.goes
}

// goType gives the type of a value; own is what an object without a name is called.
func (w *writer) goType(own string, n *yaml.Node) (string, error) {
	if kind := str(n, "x-go-type"); kind != "" {
		if pkg, _, ok := strings.Cut(strings.TrimLeft(kind, "*[]"), "."); ok {
			p := packages[pkg]
			if p == "" {
				return "", fmt.Errorf("x-go-type: the package %s is not known", pkg)
			}
			if p == module+w.dir {
				return strings.Replace(kind, pkg+".", "", 1), nil
			}
			w.imports[p] = true
		}
		return kind, nil
	}
	to, err := w.c.ref(n)
	if err != nil {
		return "", err
	}
	nullable := str(n, "nullable") == "true"
	kind := ""
	if to != nil {
		nullable = nullable || str(to.node, "nullable") == "true"
		switch {
		case str(to.node, "x-go-type") != "":
			return w.goType(own, to.node)
		case to.dir == "none":
			return "any", nil
		}
		kind = w.named(to)
		if inner := get(to.node, "properties"); inner == nil && str(to.node, "type") != "string" {
			return kind, nil // a map or a list
		}
	} else if kind, err = w.plain(own, n); err != nil {
		return "", err
	}
	if nullable && !w.mayBeNil(kind) {
		kind = "*" + kind
	}
	return kind, nil
}

// mayBeNil says whether a type has a value that is null in JSON.
func (w *writer) mayBeNil(kind string) bool {
	if kind == "any" || kind == "json.RawMessage" || strings.HasPrefix(kind, "*") || strings.HasPrefix(kind, "[]") || strings.HasPrefix(kind, "map[") {
		return true
	}
	s := w.owner(kind)
	return s != nil && get(s, "properties") == nil && str(s, "type") != "string"
}

func (w *writer) plain(own string, n *yaml.Node) (string, error) {
	switch kind := str(n, "type"); kind {
	case "string":
		switch str(n, "format") {
		case "uuid":
			w.imports["github.com/google/uuid"] = true
			return "uuid.UUID", nil
		case "date-time":
			w.imports["time"] = true
			return "time.Time", nil
		}
		return "string", nil
	case "integer":
		if str(n, "format") == "int64" {
			return "int64", nil
		}
		return "int", nil
	case "number":
		return "float64", nil
	case "boolean":
		return "bool", nil
	case "array":
		inner, err := w.goType(own, get(n, "items"))
		return "[]" + inner, err
	case "object":
		if get(n, "properties") != nil {
			if name := str(n, "x-go-name-of-type"); name != "" {
				own = name
			}
			return own, w.object(own, n)
		}
		if more := get(n, "additionalProperties"); more != nil && more.Kind == yaml.MappingNode {
			inner, err := w.goType(own, more)
			return "map[string]" + inner, err
		}
		w.imports["encoding/json"] = true
		return "json.RawMessage", nil
	case "":
		return "any", nil
	default:
		return "", fmt.Errorf("type %s is not known", kind)
	}
}

// appender writes the method that appends a struct as JSON, as encoding/json would.
func (w *writer) appender(name string, fields []field) error {
	w.imports[module+"internal/core/jsonout"] = true
	fmt.Fprintf(&w.body, "\n// AppendJSON appends it as JSON, byte for byte as encoding/json writes it.\nfunc (v *%s) AppendJSON(b []byte) []byte {\n", name)
	for i, f := range fields {
		before := ","
		if i == 0 {
			before = "{"
		}
		if f.optional {
			return fmt.Errorf("%s: what is appended has no optional fields", f.key)
		}
		fmt.Fprintf(&w.body, "\tb = append(b, `%s%q:`...)\n", before, f.key)
		w.value("v."+f.name, f.kind)
	}
	w.body.WriteString("\treturn append(b, '}')\n}\n")
	return nil
}

// appenders are what appends values of a type.
var appenders = map[string]string{
	"string": "String(b, %s)", "*string": "Optional(b, %s)", "int": "Int(b, &%s)", "*int": "Int(b, %s)", "*uint32": "Uint32(b, %s)",
	"float64": "Number(b, &%s)", "*float64": "Number(b, %s)", "bool": "Bool(b, &%s)", "*bool": "Bool(b, %s)",
	"[]string": "Strings(b, %s)", "map[string]string": "Map(b, %s)", "addr.Optional": "Address(b, %s)", "*addr.Kind": "Kind(b, %s)",
	"addr.OptionalRange": "Range(b, %s)", "decimal.Decimal": "String(b, %s.String())", "*time.Time": "Time(b, %s)", "LocalTime": "LocalTime(b, %s.Time)",
}

func (w *writer) value(of, kind string) {
	if how, ok := appenders[kind]; ok {
		fmt.Fprintf(&w.body, "\tb = jsonout."+how+"\n", of)
		return
	}
	list := strings.HasPrefix(kind, "[]")
	bare := strings.TrimLeft(kind, "*[]")
	s := w.owner(bare)
	switch {
	case s == nil:
		fmt.Fprintf(&w.body, "\tb = jsonout.Any(b, %s)\n", of)
	case get(s, "enum") != nil && kind == bare:
		fmt.Fprintf(&w.body, "\tb = jsonout.String(b, string(%s))\n", of)
	case str(s, "type") == "object" && get(s, "properties") == nil && get(s, "x-go-append") == nil:
		fmt.Fprintf(&w.body, "\tb = jsonout.Map(b, %s)\n", of)
	case get(s, "x-go-append") == nil:
		fmt.Fprintf(&w.body, "\tb = jsonout.Any(b, %s)\n", of)
	case list:
		fmt.Fprintf(&w.body, "\tif %s == nil {\n\tb = append(b, \"null\"...)\n\t} else {\n\tb = append(b, '[')\n\tfor i := range %s {\n\tif i > 0 {\n\tb = append(b, ',')\n\t}\n\tb = %s[i].AppendJSON(b)\n\t}\n\tb = append(b, ']')\n\t}\n", of, of, of)
	case kind != bare:
		fmt.Fprintf(&w.body, "\tif %s == nil {\n\tb = append(b, \"null\"...)\n\t} else {\n\tb = %s.AppendJSON(b)\n\t}\n", of, of)
	default:
		fmt.Fprintf(&w.body, "\tb = %s.AppendJSON(b)\n", of)
	}
}

// owner gives the schema of a type by its name in Go, nil where it has none.
func (w *writer) owner(kind string) *yaml.Node {
	for _, s := range w.c.list {
		if s.dir == w.dir && s.goes == kind || path.Base(s.dir)+"."+s.goes == kind {
			return s.node
		}
		if inner := inline(s.goes, s.node, kind); inner != nil && s.dir == w.dir {
			return inner
		}
	}
	return nil
}

// inline finds an object without a name within another, by its type's name.
func inline(own string, n *yaml.Node, kind string) *yaml.Node {
	for key, node := range pairs(get(n, "properties")) {
		name := own + goName(key)
		if given := str(node, "x-go-name-of-type"); given != "" {
			name = given
		}
		if get(node, "properties") != nil && name == kind {
			return node
		}
	}
	return nil
}
