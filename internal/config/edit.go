package config

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"eastporch/internal/core/addr"
)

// A First is what a first configuration says; what is "" or empty is left as it stands.
type First struct {
	DataDir string
	Site    string // the host
	Zone    string // IANA, of the site's days
	Proxies []string
	Source  *FirstSource
}

// A FirstSource is a file of range data.
type FirstSource struct {
	Name, File, Format string
	Label              string      // of a list
	Columns            [][2]string // fact and the file's name of its column
}

const head = `# East Porch. Every key, with what it does: docs/configuration.md. After a change:
#   eastporch serve --config FILE --check
`

const noRanges = `# No range data yet: addresses are classified, and none is located. With a file of it:
#   eastporch init --ranges FILE
# Or with what is published openly:
#   eastporch atlas starter
`

// Edit puts into a configuration what a first one says, and leaves all else: other keys, their
// order and the comments. An empty text gets a head. What is there already is not doubled: a site
// of the same host, a source of the same name, which keeps its columns while its file is the same.
// The error says why a text is no configuration.
func Edit(text []byte, first First) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, err
	}
	isNew := len(doc.Content) == 0
	if isNew {
		doc = yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{{Kind: yaml.MappingNode}}}
	}
	root := doc.Content[0]
	if root.Kind != yaml.MappingNode {
		return nil, errors.New("it is no mapping of keys")
	}
	if first.DataDir != "" {
		set(root, "data_dir", scalar(first.DataDir))
	}
	if first.Site != "" {
		site := under(list(root, "sites"), "host", first.Site)
		if first.Zone != "" {
			set(site, "time_zone", scalar(first.Zone))
		}
	}
	if first.Proxies != nil {
		trusted := list(mapping(root, "proxies"), "trusted")
		if trusted.Line == 0 {
			trusted.Style = yaml.FlowStyle
		}
		for _, prefix := range first.Proxies {
			if !contains(trusted, prefix) {
				trusted.Content = append(trusted.Content, scalar(prefix))
			}
		}
	}
	if s := first.Source; s != nil {
		source := under(list(mapping(root, "atlas"), "sources"), "name", s.Name)
		file, columns := get(source, "file"), get(source, "columns")
		mapped := columns != nil && file != nil && file.Value == s.File // by the owner, perhaps
		set(source, "file", scalar(s.File))
		set(source, "format", scalar(s.Format))
		if get(source, "rank") == nil {
			set(source, "rank", &yaml.Node{Kind: yaml.ScalarNode, Value: fmt.Sprint(len(get(mapping(root, "atlas"), "sources").Content))})
		}
		if s.Label != "" && get(source, "label") == nil {
			set(source, "label", scalar(s.Label))
		}
		if len(s.Columns) > 0 && !mapped {
			columns := &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
			for _, pair := range s.Columns {
				set(columns, pair[0], scalar(pair[1]))
			}
			set(source, "columns", columns)
		}
	}
	edited, err := write(text, &doc)
	if err != nil {
		return nil, err
	}
	if isNew {
		edited = head + edited
	}
	edited = strings.ReplaceAll(edited, noRanges, "")
	if a := get(root, "atlas"); a == nil || get(a, "sources") == nil {
		edited += noRanges
	}
	return []byte(edited), nil
}

// AddSources puts the sources of another configuration behind those of this one, with their
// comments, and keys of atlas that this one lacks. A source whose name is there already stays as it
// is. added are the names of those that were not. The error says why a text is no configuration.
func AddSources(text, from []byte) (edited []byte, added []string, err error) {
	var doc, other yaml.Node
	if err := errors.Join(yaml.Unmarshal(text, &doc), yaml.Unmarshal(from, &other)); err != nil {
		return nil, nil, err
	}
	if len(doc.Content) == 0 {
		return append([]byte("sites:\n  - { host: localhost, name: This machine } # yours, such as heronlake.example\n\n"), from...), sourceNames(&other), nil
	}
	root := doc.Content[0]
	if root.Kind != yaml.MappingNode {
		return nil, nil, errors.New("it is no mapping of keys")
	}
	at := mapping(root, "atlas")
	there := list(at, "sources")
	theirs := get(other.Content[0], "atlas")
	for i := 0; i+1 < len(theirs.Content); i += 2 {
		if key := theirs.Content[i]; key.Value != "sources" && get(at, key.Value) == nil {
			at.Content = append(at.Content, fresh(key), fresh(theirs.Content[i+1]))
		}
	}
	for _, source := range get(theirs, "sources").Content {
		name := get(source, "name").Value
		if slices.ContainsFunc(there.Content, func(n *yaml.Node) bool { v := get(n, "name"); return v != nil && v.Value == name }) {
			continue
		}
		there.Content, added = append(there.Content, fresh(source)), append(added, name)
	}
	if len(added) == 0 {
		return text, nil, nil
	}
	whole, err := write(text, &doc)
	if err != nil {
		return nil, nil, err
	}
	return []byte(strings.ReplaceAll(whole, noRanges, "")), added, nil
}

// fresh marks a node of another text as new in this one.
func fresh(n *yaml.Node) *yaml.Node {
	n.Line, n.Column = 0, 0
	for _, c := range n.Content {
		fresh(c)
	}
	return n
}

func sourceNames(doc *yaml.Node) (names []string) {
	for _, source := range get(get(doc.Content[0], "atlas"), "sources").Content {
		names = append(names, get(source, "name").Value)
	}
	return names
}

func scalar(text string) *yaml.Node {
	n := &yaml.Node{}
	n.SetString(text)
	return n
}

// get gives the value of a key, nil for none.
func get(of *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(of.Content); i += 2 {
		if of.Content[i].Value == key {
			return of.Content[i+1]
		}
	}
	return nil
}

// set puts a value under a key, and keeps the comment of the one before. What says the same
// stays as it is written; a value in the place of another has that one's line, below 0.
func set(of *yaml.Node, key string, value *yaml.Node) {
	if before := get(of, key); before != nil {
		if before.Kind == yaml.ScalarNode && value.Kind == yaml.ScalarNode && before.Value == value.Value {
			return
		}
		if before.Kind == value.Kind && before.Style&yaml.FlowStyle == value.Style&yaml.FlowStyle {
			value.Line, value.Column = -before.Line, before.Column
		}
		value.LineComment, value.HeadComment, value.FootComment = before.LineComment, before.HeadComment, before.FootComment
		*before = *value
		return
	}
	of.Content = append(of.Content, scalar(key), value)
}

func mapping(of *yaml.Node, key string) *yaml.Node { return child(of, key, yaml.MappingNode) }
func list(of *yaml.Node, key string) *yaml.Node    { return child(of, key, yaml.SequenceNode) }

// child gives the value of a key, which it makes where there is none of its kind.
func child(of *yaml.Node, key string, kind yaml.Kind) *yaml.Node {
	n := get(of, key)
	if n == nil || n.Kind != kind {
		set(of, key, &yaml.Node{Kind: kind})
		n = get(of, key)
	}
	return n
}

// under gives the mapping of a list whose key has a value, which it adds where there is none.
func under(in *yaml.Node, key, value string) *yaml.Node {
	for _, one := range in.Content {
		if v := get(one, key); v != nil && v.Value == value {
			return one
		}
	}
	one := &yaml.Node{Kind: yaml.MappingNode}
	set(one, key, scalar(value))
	in.Content = append(in.Content, one)
	return one
}

func contains(in *yaml.Node, text string) bool {
	for _, one := range in.Content {
		there, err := addr.ParsePrefix(one.Value)
		wanted, wrong := addr.ParsePrefix(text)
		if one.Value == text || err == nil && wrong == nil && there == wanted {
			return true
		}
	}
	return false
}
