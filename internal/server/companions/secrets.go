package companions

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"eastporch/internal/core/companion"
)

// Secrets are files of a directory, and variables whose names begin with [companion.VariablePrefix]. They are
// read whenever they are used, so that another one is taken at once. Nothing gives their values away.
type Secrets struct {
	Dir     string
	Environ func() []string
}

// maxSecret is more than a secret may have, in bytes.
const maxSecret = 8 << 10

// Read gives the values of secrets that parameters name. The error says which one cannot be used, and
// nothing of what is in it.
func (s Secrets) Read(names []string) (companion.Secrets, error) {
	out := companion.Secrets{}
	for _, name := range names {
		text, err := s.one(name)
		if err == nil {
			text, err = companion.CheckSecret(text)
		}
		if err != nil {
			return nil, fmt.Errorf("the secret %s is not usable: %w", name, err)
		}
		out[name] = text
	}
	return out, nil
}

func (s Secrets) one(name string) (string, error) {
	file, variable, ok := companion.SecretName(name)
	if !ok {
		return "", errors.New("it is neither a file nor a variable")
	}
	if variable != "" {
		for _, pair := range s.Environ() {
			if n, value, _ := strings.Cut(pair, "="); n == variable {
				return value, nil
			}
		}
		return "", errors.New("the service was started without this variable")
	}
	root, err := os.OpenRoot(s.Dir)
	if err != nil {
		return "", errors.New("there is no directory of secrets")
	}
	defer root.Close()
	f, err := root.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return "", errors.New("the file is not there")
	}
	if err != nil {
		return "", errors.New("the file cannot be read")
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxSecret))
	if err != nil {
		return "", errors.New("the file cannot be read")
	}
	return string(text), nil
}

// Names lists the secrets that there are, as parameters name them.
func (s Secrets) Names() []string {
	list := []string{}
	entries, _ := os.ReadDir(s.Dir) // which need not be there
	for _, e := range entries {
		if name := "file:" + e.Name(); !e.IsDir() {
			if _, _, ok := companion.SecretName(name); ok {
				list = append(list, name)
			}
		}
	}
	for _, pair := range s.Environ() {
		n, _, _ := strings.Cut(pair, "=")
		if name := "env:" + n; strings.HasPrefix(n, companion.VariablePrefix) {
			if _, _, ok := companion.SecretName(name); ok {
				list = append(list, name)
			}
		}
	}
	slices.Sort(list)
	return list
}
