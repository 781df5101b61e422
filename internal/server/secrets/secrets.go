// Package secrets reads and keeps the secrets of an installation: keys of companions, passwords of mail servers,
// keys of webhooks.
package secrets

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"eastporch/internal/core/secret"
	"eastporch/internal/files/whole"
)

// A Store has secrets: files of a directory, and variables whose names begin with [secret.VariablePrefix]. They are
// read whenever they are used, so that another one is taken at once. Nothing gives their values away.
type Store struct {
	Dir     string
	Environ func() []string
}

// maxSecret is more than a secret may have, in bytes.
const maxSecret = 8 << 10

// Read gives the values of secrets by their names. The error says which one cannot be used, and
// nothing of what is in it.
func (s Store) Read(names []string) (secret.Values, error) {
	out := secret.Values{}
	for _, name := range names {
		text, err := s.one(name)
		if err == nil {
			text, err = secret.Check(text)
		}
		if err != nil {
			return nil, fmt.Errorf("the secret %s is not usable: %w", name, err)
		}
		out[name] = text
	}
	return out, nil
}

func (s Store) one(name string) (string, error) {
	file, variable, ok := secret.Name(name)
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

// Write keeps a secret in a file of the directory, which is made where it is not there, in place of the one before.
// Nobody but the service's own account may read it.
func (s Store) Write(file, value string) error {
	if _, _, ok := secret.Name("file:" + file); !ok {
		return errors.New("it is no name of a secret")
	}
	value, err := secret.Check(value)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.Dir, 0o700); err != nil {
		return errors.New("the directory of secrets cannot be made")
	}
	if err := whole.Write(filepath.Join(s.Dir, file), 0o600, []byte(value+"\n")); err != nil { // only its owner may read it
		return errors.New("the file cannot be written")
	}
	return nil
}

// Names lists the secrets that there are.
func (s Store) Names() []string {
	list := []string{}
	entries, _ := os.ReadDir(s.Dir) // which need not be there
	for _, e := range entries {
		if name := "file:" + e.Name(); !e.IsDir() {
			if _, _, ok := secret.Name(name); ok {
				list = append(list, name)
			}
		}
	}
	for _, pair := range s.Environ() {
		n, _, _ := strings.Cut(pair, "=")
		if name := "env:" + n; strings.HasPrefix(n, secret.VariablePrefix) {
			if _, _, ok := secret.Name(name); ok {
				list = append(list, name)
			}
		}
	}
	slices.Sort(list)
	return list
}
