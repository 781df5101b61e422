package api

import (
	"cmp"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
)

// Headers are those of a request, by name in any case: the lines of each in the order in which
// they came.
type Headers map[string][]string

// UnmarshalJSON reads headers as frameworks have them: each value is a text, or a list of the
// lines of its name. The error is a [json.UnmarshalTypeError] with the name in its field.
func (h *Headers) UnmarshalJSON(text []byte) error {
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return err
	}
	*h = make(Headers, len(raw))
	for _, name := range slices.Sorted(maps.Keys(raw)) {
		var one string
		if json.Unmarshal(raw[name], &one) == nil && raw[name][0] == '"' {
			(*h)[name] = []string{one}
			continue
		}
		var list []*string
		if err := json.Unmarshal(raw[name], &list); err != nil || list == nil || slices.Contains(list, nil) {
			return &json.UnmarshalTypeError{Value: cmp.Or(kinds[raw[name][0]], "number"), Type: reflect.TypeFor[lines](), Field: name}
		}
		all := make([]string, len(list))
		for i, line := range list {
			all[i] = *line
		}
		(*h)[name] = all
	}
	return nil
}

// lines is what a header may be: a text or a list of texts.
type lines []string

// JSONKind names what may stand there.
func (lines) JSONKind() string { return "a string or an array of strings" }

// kinds name a value of JSON by how it begins; what is none of them is a number.
var kinds = map[byte]string{'{': "object", '[': "array", 't': "bool", 'f': "bool", 'n': "null"}
