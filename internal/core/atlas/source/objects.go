package source

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// jsonRows reads an object a line.
type jsonRows struct{ tableRows }

func (r *jsonRows) row(line []byte) (span rangeText, key []byte, skip bool, err error) {
	if len(bytes.TrimSpace(line)) == 0 {
		return span, nil, true, nil
	}
	object, err := readObject(line)
	if err != nil {
		return span, nil, false, fmt.Errorf("no JSON object: %w", err)
	}
	r.parts = r.parts[:0]
	for _, name := range r.t.head {
		r.parts = append(r.parts, []byte(textOf(object[name])))
	}
	span, key = r.ranged()
	return span, key, false, nil
}

func readObject(line []byte) (object map[string]any, err error) {
	from := json.NewDecoder(bytes.NewReader(line))
	from.UseNumber()
	err = from.Decode(&object)
	return object, err
}

func sortedKeys(m map[string]any) []string { return slices.Sorted(maps.Keys(m)) }

// textOf gives a value as a table would write it.
func textOf(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []any:
		var list []string
		for _, part := range v {
			list = append(list, textOf(part))
		}
		return strings.Join(list, ";")
	}
	return fmt.Sprint(v)
}
