// Package written reads and writes what owners describe in files of YAML or JSON.
package written

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"
)

// ErrFile is wrapped by what is wrong with the text of a file.
var ErrFile = errors.New("the file is not usable")

// maxFile bounds the text of a file, in bytes.
const maxFile = 1 << 20

// Read reads YAML or JSON, a mapping of keys, into a value that JSON can be read into. Keys that it does not know
// are errors. The error wraps [ErrFile].
func Read(text []byte, into any) error {
	if len(text) > maxFile {
		return fmt.Errorf("%w: it has more than %d MB", ErrFile, maxFile>>20)
	}
	var tree map[string]any
	var kinds *yaml.TypeError
	if err := yaml.Unmarshal(text, &tree); errors.As(err, &kinds) || tree == nil && err == nil {
		return fmt.Errorf("%w: it is no mapping of keys", ErrFile)
	} else if err != nil {
		return fmt.Errorf("%w: %s", ErrFile, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	asJSON, err := json.Marshal(tree)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrFile, err)
	}
	d := json.NewDecoder(bytes.NewReader(asJSON))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		var kind *json.UnmarshalTypeError
		if errors.As(err, &kind) {
			return fmt.Errorf("%w: %s is a %s", ErrFile, kind.Field, kind.Value)
		}
		return fmt.Errorf("%w: %s", ErrFile, strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

// Write writes a value that JSON can hold as YAML that [Read] reads.
func Write(value any) ([]byte, error) {
	text, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	var tree yaml.Node
	if err := yaml.Unmarshal(text, &tree); err != nil { // JSON is YAML, and keeps its order so
		return nil, err
	}
	unbraced(&tree)
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	err = errors.Join(e.Encode(&tree), e.Close())
	return out.Bytes(), err
}

// unbraced takes the braces and quotes of JSON off, where YAML can do without.
func unbraced(n *yaml.Node) {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!str" {
		n.Style = 0
	}
	for _, sub := range n.Content {
		unbraced(sub)
	}
}
