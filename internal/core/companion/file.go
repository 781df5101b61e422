package companion

import (
	"encoding/json"
	"fmt"

	"eastporch/internal/core/written"
)

// Fresh is what a companion begins with.
func Fresh() Said {
	return Said{
		Enabled: true, Method: get, Parameters: []Parameter{}, Grid: 0.1, Level: "region", TimeoutMs: 2000, Values: []Pick{}, Categories: []Category{},
		ADay: 1000, AMinute: 60, Reserve: 100, KeepSeconds: 900, OldestSeconds: 21_600,
	}
}

// ReadFile reads what is said of a companion from YAML or JSON, with the names of the contract; what is left out
// is as in [Fresh]. The error wraps [written.ErrFile]; what is said is for [Check].
func ReadFile(text []byte) (Said, error) {
	s := Fresh()
	return s, written.Read(text, &s)
}

// ReadAll is [ReadFile] for several companions by their names.
func ReadAll(text []byte) (map[string]Said, error) {
	raw, all := map[string]json.RawMessage{}, map[string]Said{}
	if err := written.Read(text, &raw); err != nil {
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

// WriteFile writes what is said of a companion as YAML that [ReadFile] reads.
func WriteFile(s Said) ([]byte, error) { return written.Write(s) }
