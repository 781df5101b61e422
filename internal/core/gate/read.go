package gate

import (
	"errors"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"
)

// ErrRules is wrapped where a file holds no rules.
var ErrRules = errors.New("these are no rules of gates")

// MaxFile bounds a file of rules, in bytes.
const MaxFile = 4 << 20

// ReadRules reads rules from YAML or JSON, with the names of the contract. The error wraps [ErrRules] and
// names the line; what the rules say is for [Check].
func ReadRules(text []byte) (Rules, error) {
	var whole rulesFile
	if len(text) > MaxFile {
		return Rules{}, fmt.Errorf("%w: the file has more than %d MB", ErrRules, MaxFile>>20)
	}
	decoder := yaml.NewDecoder(strings.NewReader(string(text)))
	decoder.KnownFields(true)
	if err := decoder.Decode(&whole); err != nil {
		return Rules{}, fmt.Errorf("%w: %s", ErrRules, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	return whole.rules(), nil
}

// WriteRules writes rules as YAML that [ReadRules] reads.
func WriteRules(r Rules) ([]byte, error) {
	var b strings.Builder
	encoder := yaml.NewEncoder(&b)
	encoder.SetIndent(2)
	err := encoder.Encode(fileOf(r))
	return []byte(b.String()), errors.Join(err, encoder.Close())
}

// rulesFile is [Rules] as a file has them.
type rulesFile struct {
	Exceptions struct {
		Labels []string `yaml:"labels,omitempty"`
		Paths  []string `yaml:"paths,omitempty"`
	} `yaml:"exceptions,omitempty"`
	Gates []gateFile `yaml:"gates"`
}

type gateFile struct {
	Name    string            `yaml:"name"`
	Path    string            `yaml:"path"`
	Mode    string            `yaml:"mode"`
	List    string            `yaml:"list"`
	Missing map[string]string `yaml:"missing"`
	Rules   []ruleFile        `yaml:"rules"`
	Refusal *struct {
		Status    int               `yaml:"status,omitempty"`
		Contact   string            `yaml:"contact,omitempty"`
		Elsewhere string            `yaml:"elsewhere,omitempty"`
		Texts     map[string]string `yaml:"texts,omitempty"`
	} `yaml:"refusal,omitempty"`
}

type ruleFile struct {
	Do        string            `yaml:"do,omitempty"`
	Countries []string          `yaml:"countries,omitempty,flow"`
	Groups    []string          `yaml:"groups,omitempty,flow"`
	Regions   []string          `yaml:"regions,omitempty,flow"`
	Areas     []string          `yaml:"areas,omitempty,flow"`
	Labels    []string          `yaml:"labels,omitempty,flow"`
	Kinds     []string          `yaml:"kinds,omitempty,flow"`
	Networks  []string          `yaml:"networks,omitempty,flow"`
	From      string            `yaml:"from,omitempty"`
	Until     string            `yaml:"until,omitempty"`
	TimeZone  string            `yaml:"time_zone,omitempty"`
	Basis     string            `yaml:"basis,omitempty"`
	Missing   map[string]string `yaml:"missing,omitempty"`
}

func (f *rulesFile) rules() Rules {
	r := Rules{Exceptions: Exceptions{Labels: f.Exceptions.Labels, Paths: f.Exceptions.Paths}, Gates: []Gate{}}
	for i := range f.Gates {
		one := &f.Gates[i]
		g := Gate{Name: one.Name, Path: one.Path, Mode: Mode(one.Mode), List: List(one.List), Rules: []Rule{}}
		g.Missing = Missing{Outcome(one.Missing["unknown"]), Outcome(one.Missing["skipped"]), Outcome(one.Missing["not_found"]), Outcome(one.Missing["no_data"])}
		for _, rule := range one.Rules {
			g.Rules = append(g.Rules, Rule(rule))
		}
		if one.Refusal != nil {
			refusal := Refusal(*one.Refusal)
			g.Refusal = &refusal
		}
		r.Gates = append(r.Gates, g)
	}
	return r
}

func fileOf(r Rules) (f rulesFile) {
	f.Exceptions.Labels, f.Exceptions.Paths, f.Gates = r.Exceptions.Labels, r.Exceptions.Paths, []gateFile{}
	for i := range r.Gates {
		g := &r.Gates[i]
		one := gateFile{Name: g.Name, Path: g.Path, Mode: string(g.Mode), List: string(g.List), Missing: map[string]string{}, Rules: []ruleFile{}}
		for a, word := range Absences {
			one.Missing[word] = string(g.Missing.of(absence(a + 1)))
		}
		for _, rule := range g.Rules {
			one.Rules = append(one.Rules, ruleFile(rule))
		}
		if g.Refusal != nil {
			one.Refusal = (*struct {
				Status    int               `yaml:"status,omitempty"`
				Contact   string            `yaml:"contact,omitempty"`
				Elsewhere string            `yaml:"elsewhere,omitempty"`
				Texts     map[string]string `yaml:"texts,omitempty"`
			})(g.Refusal)
		}
		f.Gates = append(f.Gates, one)
	}
	return f
}
