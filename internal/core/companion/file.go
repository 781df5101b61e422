package companion

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

// Fresh is what a companion begins with.
func Fresh() Said {
	return Said{
		Enabled: true, Method: get, Parameters: []Parameter{}, Grid: 0.1, Level: "region", TimeoutMs: 2000, Values: []Pick{}, Categories: []Category{},
		ADay: 1000, AMinute: 60, Reserve: 100, KeepSeconds: 900, OldestSeconds: 21_600,
	}
}

// ReadFile reads what is said of a companion from YAML or JSON, with the names of the contract; what is left out
// is as in [Fresh]. The error wraps [ErrFile]; what is said is for [Check].
func ReadFile(text []byte) (Said, error) {
	s := Fresh()
	return s, readInto(text, &s)
}

// ReadAll is [ReadFile] for several companions by their names.
func ReadAll(text []byte) (map[string]Said, error) {
	raw, all := map[string]json.RawMessage{}, map[string]Said{}
	if err := readInto(text, &raw); err != nil {
		return nil, err
	}
	for name, one := range raw {
		s, err := ReadFile(one)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all[name] = s
	}
	return all, nil
}

func readInto(text []byte, into any) error {
	if len(text) > maxFile {
		return fmt.Errorf("%w: it has more than %d MB", ErrFile, maxFile>>20)
	}
	var tree map[string]any
	var kinds *yaml.TypeError
	if err := yaml.Unmarshal(text, &tree); errors.As(err, &kinds) || tree == nil && err == nil {
		return fmt.Errorf("%w: it is no mapping of keys such as title and url", ErrFile)
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

// WriteFile writes what is said of a companion as YAML that [ReadFile] reads.
func WriteFile(s Said) ([]byte, error) {
	text, err := json.Marshal(s)
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
