package config

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/go-viper/mapstructure/v2"
	"github.com/knadh/koanf/providers/confmap"
	"github.com/knadh/koanf/v2"
	"go.yaml.in/yaml/v3"

	"eastporch/internal/core/addr"
	"eastporch/internal/files/whole"
)

// loader gathers values, where they came from, and what is wrong.
type loader struct {
	k        *koanf.Koanf
	file     string
	lines    map[string]int    // key -> line of the file
	origins  map[string]string // key -> variable or flag
	problems Problems
}

func (l *loader) readFile() error {
	text, err := whole.Read(l.file)
	if err != nil {
		return fmt.Errorf("configuration: %w", err)
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		l.problem("", strings.TrimPrefix(err.Error(), "yaml: "), "Mend the YAML; two spaces indent, a colon and a space follow each key.")
		return nil
	}
	if len(root.Content) == 0 {
		return nil // an empty file
	}
	l.place(root.Content[0], "", reflect.TypeFor[Config]())
	var values map[string]any
	if err := root.Decode(&values); err != nil {
		l.problem("", strings.TrimPrefix(err.Error(), "yaml: "), "The file is a mapping of keys to values.")
		return nil
	}
	return l.k.Load(confmap.Provider(values, "."), nil)
}

// place notes the line of every key and reports keys that t does not have.
func (l *loader) place(n *yaml.Node, key string, t reflect.Type) {
	if key != "" {
		l.lines[key] = n.Line
	}
	if n.Tag == "!!timestamp" || strings.HasSuffix(key, ".socket_mode") { // dates and octal numbers stay text
		n.Tag = "!!str"
	}
	switch {
	case n.Kind == yaml.MappingNode && t.Kind() == reflect.Map:
		for i := 0; i+1 < len(n.Content); i += 2 {
			inner := key + "." + n.Content[i].Value
			l.lines[inner] = n.Content[i].Line
			l.place(n.Content[i+1], inner, t.Elem())
		}
	case n.Kind == yaml.SequenceNode && t.Kind() == reflect.Slice:
		for i, item := range n.Content {
			l.place(item, fmt.Sprintf("%s.%d", key, i), t.Elem())
		}
	case n.Kind == yaml.MappingNode && t.Kind() == reflect.Struct && t.NumField() > 0 && t.Field(0).Tag.Get("koanf") != "":
		for i := 0; i+1 < len(n.Content); i += 2 {
			name := n.Content[i].Value
			inner := strings.TrimPrefix(key+"."+name, ".")
			l.lines[inner] = n.Content[i].Line
			if field, ok := fieldByKey(t, name); ok {
				l.place(n.Content[i+1], inner, field.Type)
			} else {
				l.problem(inner, "this key is not known", remedyForKey(name, t))
			}
		}
	}
}

func fieldByKey(t reflect.Type, key string) (reflect.StructField, bool) {
	for i := range t.NumField() {
		if t.Field(i).Tag.Get("koanf") == key {
			return t.Field(i), true
		}
	}
	return reflect.StructField{}, false
}

func keysOf(t reflect.Type) []string {
	var keys []string
	for i := range t.NumField() {
		keys = append(keys, t.Field(i).Tag.Get("koanf"))
	}
	return keys
}

func remedyForKey(name string, t reflect.Type) string {
	known := keysOf(t)
	for _, k := range known {
		if strings.EqualFold(strings.ReplaceAll(k, "_", ""), strings.NewReplacer("_", "", "-", "").Replace(name)) || near(k, name) {
			return fmt.Sprintf("Did you mean %q?", k)
		}
	}
	return "Known here are " + strings.Join(known, ", ") + "."
}

// near says whether two words differ by one letter left out, put in or changed.
func near(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	return a[i:] == b[i+len(b)-len(a):] || len(a) == len(b) && i < len(a) && a[i+1:] == b[i+1:]
}

// plainKeys lists the keys that hold one value or a list of plain values, so
// that a variable can give them.
func plainKeys(t reflect.Type, prefix string) map[string]reflect.Type {
	keys := map[string]reflect.Type{}
	for i := range t.NumField() {
		f := t.Field(i)
		key := prefix + f.Tag.Get("koanf")
		switch {
		case f.Type.Kind() == reflect.Struct:
			for k, ft := range plainKeys(f.Type, key+".") {
				keys[k] = ft
			}
		case f.Type.Kind() == reflect.Slice && f.Type.Elem().Kind() != reflect.String, f.Type.Kind() == reflect.Map:
		default:
			keys[key] = f.Type
		}
	}
	return keys
}

func variable(key string) string {
	return "EASTPORCH_" + strings.ToUpper(strings.ReplaceAll(key, ".", "_"))
}

// FlagName is the flag that sets a key: admin-address for admin.address.
func FlagName(key string) string {
	return strings.NewReplacer(".", "-", "_", "-").Replace(key)
}

func (l *loader) readEnvironment(getenv func(string) string) {
	for key, t := range plainKeys(reflect.TypeFor[Config](), "") {
		text := getenv(variable(key))
		if text == "" {
			continue
		}
		var value any = text
		if t.Kind() == reflect.Slice {
			var list []any
			for _, part := range strings.Split(text, ",") {
				list = append(list, strings.TrimSpace(part))
			}
			value = list
		}
		l.set(key, value, "variable "+variable(key))
	}
}

func (l *loader) set(key string, value any, origin string) {
	if l.origins == nil {
		l.origins = map[string]string{}
	}
	l.origins[key] = origin
	_ = l.k.Load(confmap.Provider(map[string]any{key: value}, "."), nil) // a map always loads
}

// decode turns values into the types of Config, key by key, so that every
// problem names its place.
func (l *loader) decode(cfg *Config) {
	err := l.k.UnmarshalWithConf("", cfg, koanf.UnmarshalConf{Tag: "koanf", DecoderConfig: &mapstructure.DecoderConfig{
		Result: cfg, TagName: "koanf", WeaklyTypedInput: true,
		DecodeHook: mapstructure.StringToTimeDurationHookFunc(),
	}})
	if err == nil {
		return
	}
	for _, line := range strings.Split(err.Error(), "\n") {
		if quoted := strings.SplitN(line, "'", 3); len(quoted) == 3 {
			key := strings.NewReplacer("[", ".", "]", "").Replace(quoted[1])
			l.problem(key, strings.TrimSpace(quoted[2]), "See docs/configuration.md for what stands here.")
		}
	}
	if len(l.problems) == 0 {
		l.problem("", err.Error(), "See docs/configuration.md.")
	}
}

func reasonOf(err error) string {
	return strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": ")
}

// Keys lists the keys with one value, which flags may set, sorted.
func Keys() []string {
	var keys []string
	for k, t := range plainKeys(reflect.TypeFor[Config](), "") {
		if t.Kind() != reflect.Slice {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	return keys
}
