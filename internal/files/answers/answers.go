// Package answers writes answers in the formats that users may ask for, whole
// or with the fields that they pick: the HTTP API and the command line write the
// same.
package answers

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/plain"
)

// Types are the media types of the formats, by their words.
var Types = map[string]string{
	"json": "application/json", "geojson": "application/geo+json", "xml": "application/xml", "yaml": "application/yaml",
	"csv": "text/csv", "text": "text/plain", "ndjson": "application/x-ndjson",
}

// ErrPath is wrapped where a path leads to nothing.
var ErrPath = errors.New("the path leads to nothing here")

// Render writes a value, which goes through JSON. Where key is not "", the value
// is an object, and its list under key has the things that paths pick from and
// that the formats of rows (csv, geojson, ndjson, text) are about; where the value
// itself is a list, its things are. Without paths all is written. The error may
// wrap [ErrPath].
func Render(format string, value any, key string, paths []string) ([]byte, error) {
	whole, err := generic(value)
	if err != nil {
		return nil, err
	}
	items, isList := whole.([]any)
	if key != "" {
		items, _ = whole.(map[string]any)[key].([]any)
		isList = true
	} else if !isList {
		items = []any{whole}
	}
	places := make([][2]any, len(items)) // kept before paths may drop them
	for i, item := range items {
		places[i][0], places[i][1] = coordinatesOf(item)
		if len(paths) > 0 {
			if items[i], err = pick(item, paths); err != nil {
				return nil, err
			}
		}
	}
	switch {
	case key != "":
		whole.(map[string]any)[key] = items
	case isList:
		whole = items
	default:
		whole = items[0]
	}
	return render(format, whole, items, places, isList, paths)
}

// Paths reads a list with commas between.
func Paths(s string) (list []string) {
	for _, part := range strings.Split(s, ",") {
		if part = strings.TrimSpace(part); part != "" {
			list = append(list, part)
		}
	}
	return list
}

// generic turns a value into maps, lists, texts and numbers, as JSON has it.
func generic(value any) (any, error) {
	text, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	from := json.NewDecoder(bytes.NewReader(text))
	from.UseNumber()
	var v any
	err = from.Decode(&v)
	return numbers(v), err
}

func numbers(v any) any {
	switch v := v.(type) {
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return n
		}
		f, _ := v.Float64()
		return f
	case []any:
		for i := range v {
			v[i] = numbers(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = numbers(v[k])
		}
	}
	return v
}

// pick keeps what the paths lead to. A path goes through lists to each of their
// things. A path that leads to something in some answers leads to null in the others.
func pick(v any, paths []string) (any, error) {
	out := map[string]any{}
	for _, path := range paths {
		if !copyPath(out, v, strings.Split(path, "."), nil, "") {
			return nil, fmt.Errorf("%w: %.60q", ErrPath, path)
		}
	}
	return out, nil
}

// copyPath copies what a path leads to; false is a path that leads nowhere in any answer. from stands
// under a name in around.
func copyPath(to map[string]any, from any, path []string, around map[string]any, name string) bool {
	m, ok := from.(map[string]any)
	if !ok {
		return false
	}
	v, ok := m[path[0]]
	if !ok && !(len(path) == 1 && mayStand(path[0], around, name)) {
		return false
	}
	if len(path) == 1 || v == nil { // what is absent has no parts
		to[path[0]] = v
		return true
	}
	if list, ok := v.([]any); ok {
		kept, _ := to[path[0]].([]any)
		if kept == nil {
			kept = make([]any, len(list))
			for i := range kept {
				kept[i] = map[string]any{}
			}
		}
		for i := range list {
			if !copyPath(kept[i].(map[string]any), list[i], path[1:], m, path[0]) {
				return false
			}
		}
		to[path[0]] = kept
		return true
	}
	below, _ := to[path[0]].(map[string]any)
	if below == nil {
		below = map[string]any{}
	}
	to[path[0]] = below
	return copyPath(below, v, path[1:], m, path[0])
}

// mayStand says whether a key that a map lacks stands there in other answers: reasons and spoken values
// are there for what is missing or known, and evidence has the facts that it is of.
func mayStand(key string, around map[string]any, name string) bool {
	switch name {
	case "missing", "human":
		values, _ := around["values"].(map[string]any)
		_, fact := around[key]
		_, value := values[key]
		return value || fact && key != name
	case "values":
		return slices.ContainsFunc(atlas.Facts[:], func(f atlas.Fact) bool { return f.Name == key && f.Claimed() })
	}
	return false
}

// coordinatesOf finds latitude and longitude in a thing, or in its card or
// location.
func coordinatesOf(v any) (latitude, longitude any) {
	m, ok := v.(map[string]any)
	if !ok {
		return nil, nil
	}
	for _, inner := range []string{"card", "location"} {
		if below, ok := m[inner].(map[string]any); ok {
			return coordinatesOf(below)
		}
	}
	return m["latitude"], m["longitude"]
}

func render(format string, whole any, items []any, places [][2]any, isList bool, paths []string) ([]byte, error) {
	var b bytes.Buffer
	switch format {
	case "yaml":
		e := yaml.NewEncoder(&b)
		e.SetIndent(2)
		err := e.Encode(whole)
		return b.Bytes(), err
	case "xml":
		b.WriteString(xml.Header)
		writeXML(&b, "answer", whole, 0)
		return b.Bytes(), nil
	case "geojson":
		return renderGeoJSON(items, places, isList)
	case "ndjson":
		e := json.NewEncoder(&b)
		for _, item := range items {
			if err := e.Encode(item); err != nil {
				return nil, err
			}
		}
		return b.Bytes(), nil
	case "csv":
		return renderCSV(items, paths)
	case "text":
		for i, item := range items {
			if i > 0 && len(flat(item)) > 1 {
				b.WriteByte('\n')
			}
			pairs := flat(item)
			for _, p := range pairs {
				if len(pairs) > 1 {
					fmt.Fprintf(&b, "%s: ", p.path)
				}
				fmt.Fprintf(&b, "%s\n", p.text())
			}
		}
		return b.Bytes(), nil
	}
	return json.Marshal(whole)
}

// renderGeoJSON writes a Feature, or a FeatureCollection (RFC 7946), longitude
// first. What has no point has no geometry.
func renderGeoJSON(items []any, places [][2]any, isList bool) ([]byte, error) {
	type geometry struct {
		Type        string `json:"type"`
		Coordinates [2]any `json:"coordinates"`
	}
	type feature struct {
		Type       string    `json:"type"`
		Geometry   *geometry `json:"geometry"`
		Properties any       `json:"properties"`
	}
	features := []feature{}
	for i, item := range items {
		f := feature{Type: "Feature", Properties: item}
		if places[i][0] != nil && places[i][1] != nil {
			f.Geometry = &geometry{"Point", [2]any{places[i][1], places[i][0]}}
		}
		features = append(features, f)
	}
	if !isList {
		return json.Marshal(features[0])
	}
	return json.Marshal(struct {
		Type     string    `json:"type"`
		Features []feature `json:"features"`
	}{"FeatureCollection", features})
}

// pair is one fact with the path that leads to it.
type pair struct {
	path  string
	value any
}

func (p pair) text() string {
	switch v := p.value.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(p.value)
}

// flat lists the facts of a thing by path; a list of plain values is one fact,
// other lists are counted.
func flat(v any) (list []pair) {
	var walk func(path string, v any)
	walk = func(path string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for _, k := range slices.Sorted(maps.Keys(v)) {
				walk(strings.TrimPrefix(path+"."+k, "."), v[k])
			}
		case []any:
			var texts []string
			for _, part := range v {
				switch part.(type) {
				case map[string]any, []any:
					text, _ := json.Marshal(part)
					texts = append(texts, string(text))
				default:
					texts = append(texts, pair{"", part}.text())
				}
			}
			list = append(list, pair{path, strings.Join(texts, "; ")})
		default:
			list = append(list, pair{path, v})
		}
	}
	walk("", v)
	return list
}

// renderCSV writes a row a thing, with a column for every path of any of them.
// Those of paths that were picked stand in their order. What a spreadsheet would take for a formula is kept from being
// one.
func renderCSV(items []any, paths []string) ([]byte, error) {
	var head []string
	at := map[string]int{}
	rows := make([][]pair, len(items))
	for i, item := range items {
		rows[i] = flat(item)
		for _, p := range rows[i] {
			if _, ok := at[p.path]; !ok {
				at[p.path] = len(head)
				head = append(head, p.path)
			}
		}
	}
	slices.SortStableFunc(head, func(a, b string) int { return cmp.Compare(pathAt(paths, a), pathAt(paths, b)) })
	if len(paths) > 0 { // what is above a path stands there where it is absent itself
		head = slices.DeleteFunc(head, func(name string) bool { return pathAt(paths, name) == len(paths) })
	}
	clear(at)
	for i, name := range head {
		at[name] = i
	}
	var b bytes.Buffer
	out := csv.NewWriter(&b)
	names := make([]string, len(head))
	for i, name := range head {
		names[i] = plain.Guard(name)
	}
	_ = out.Write(names)
	for _, pairs := range rows {
		row := make([]string, len(head))
		for _, p := range pairs {
			if i, ok := at[p.path]; ok {
				row[i] = plain.Guard(p.text())
			}
		}
		_ = out.Write(row)
	}
	out.Flush()
	return b.Bytes(), out.Error()
}

// A CSV writes things one by one as rows of CSV. The columns are those of the first, without reasons (missing), which
// each thing has others of.
type CSV struct {
	out  *csv.Writer
	head []string
}

// NewCSV makes a CSV that writes to w.
func NewCSV(w io.Writer) *CSV { return &CSV{out: csv.NewWriter(w)} }

// Write writes a thing, which goes through JSON, and before the first of them the names of the columns.
func (c *CSV) Write(value any) error {
	thing, err := generic(value)
	if err != nil {
		return err
	}
	by := map[string]string{}
	first := c.head == nil
	for _, p := range flat(thing) {
		if by[p.path] = plain.Guard(p.text()); first && !strings.Contains("."+p.path, ".missing.") {
			c.head = append(c.head, p.path)
		}
	}
	if first {
		names := make([]string, len(c.head))
		for i, name := range c.head {
			names[i] = plain.Guard(name)
		}
		_ = c.out.Write(names) // an error comes with the next
	}
	row := make([]string, len(c.head))
	for i, name := range c.head {
		row[i] = by[name]
	}
	_ = c.out.Write(row)
	c.out.Flush()
	return c.out.Error()
}

// pathAt is the place of the path that led to a column, the last place for none.
func pathAt(paths []string, column string) int {
	for i, path := range paths {
		if column == path || strings.HasPrefix(column, path+".") {
			return i
		}
	}
	return len(paths)
}

func writeXML(b *bytes.Buffer, name string, v any, depth int) {
	indent := strings.Repeat("  ", depth)
	open, end := name, name
	if !isXMLName(name) {
		var text bytes.Buffer
		_ = xml.EscapeText(&text, []byte(name))
		open, end = `entry key="`+text.String()+`"`, "entry"
	}
	switch v := v.(type) {
	case nil:
		fmt.Fprintf(b, "%s<%s absent=\"true\"/>\n", indent, open)
	case map[string]any:
		fmt.Fprintf(b, "%s<%s>\n", indent, open)
		for _, k := range slices.Sorted(maps.Keys(v)) {
			writeXML(b, k, v[k], depth+1)
		}
		fmt.Fprintf(b, "%s</%s>\n", indent, end)
	case []any:
		fmt.Fprintf(b, "%s<%s>\n", indent, open)
		for _, part := range v {
			writeXML(b, "item", part, depth+1)
		}
		fmt.Fprintf(b, "%s</%s>\n", indent, end)
	default:
		fmt.Fprintf(b, "%s<%s>", indent, open)
		_ = xml.EscapeText(b, []byte(pair{"", v}.text()))
		fmt.Fprintf(b, "</%s>\n", end)
	}
}

func isXMLName(s string) bool {
	for i, c := range s {
		if !(c >= 'a' && c <= 'z' || c == '_' || i > 0 && (c >= '0' && c <= '9')) {
			return false
		}
	}
	return s != ""
}
