package terminal

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"go.yaml.in/yaml/v3"

	"eastporch/internal/files/whole"
)

// profile is what login keeps: a key for each server.
type profile struct {
	Keys map[string]string `yaml:"keys"`
}

// ProfilePath is where login keeps keys by default.
func ProfilePath(getenv func(string) string) string {
	dir := getenv("XDG_CONFIG_HOME")
	if dir == "" {
		dir = filepath.Join(getenv("HOME"), ".config")
	}
	return filepath.Join(dir, "eastporch", "profile.yaml")
}

// readProfile reads the profile; one that is not there is empty, and one that
// others may read is refused.
func readProfile(path string) (profile, error) {
	p := profile{Keys: map[string]string{}}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return p, fmt.Errorf("profile: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return p, fmt.Errorf("profile: others may read %s, which holds keys: run chmod 600 %s", path, path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return p, fmt.Errorf("profile: %w", err)
	}
	if err := yaml.Unmarshal(text, &p); err != nil {
		return p, fmt.Errorf("profile %s: %w", path, err)
	}
	if p.Keys == nil {
		p.Keys = map[string]string{}
	}
	return p, nil
}

// KeepKey puts a server's key into the profile, by a file of mode 600 that is
// renamed over the old one.
func KeepKey(path, server, key string) error {
	p, err := readProfile(path)
	if err != nil {
		return err
	}
	p.Keys[server] = key
	text, err := yaml.Marshal(p)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("profile: %w", err)
	}
	if err := whole.Write(path, 0o600, text); err != nil {
		return fmt.Errorf("profile: %w", err)
	}
	return nil
}
