// Package terminal is what all commands share: the world that they see, tables and other ways of
// writing answers, progress, the keys that login keeps, and editions opened for work offline.
package terminal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"eastporch/internal/client"
)

// System is all that a command may touch outside its flags.
type System struct {
	Args     []string
	Getenv   func(string) string
	In       io.Reader
	Out, Err io.Writer
}

// A UsageError marks wrong use of a command.
type UsageError struct{ error }

// Usage marks an error as wrong use of a command.
func Usage(err error) error { return UsageError{err} }

// Unwrap gives what is wrong.
func (e UsageError) Unwrap() error { return e.error }

// An App is what all commands share.
type App struct {
	System
	Server string // --server
	Key    string // --key
	Store  string // --profile
	Output string // --output
}

// Client gives a client of the service, with the key that was given or kept.
func (a *App) Client() (*client.Client, error) {
	key := a.Key
	if key == "" {
		key = a.Getenv("EASTPORCH_KEY")
	}
	if key == "" {
		p, err := readProfile(a.Store)
		if err != nil {
			return nil, err
		}
		key = p.Keys[strings.TrimSuffix(a.Server, "/")]
	}
	c, err := client.New(a.Server, key, nil)
	if err != nil {
		return nil, Usage(err)
	}
	return c, nil
}

// Note writes a note for people to standard error.
func (a *App) Note(args ...any) { fmt.Fprintln(ForPeople(a.Err), args...) }

// FirstSite gives the host of the first site of a service, and says that it is the first of several.
func (a *App) FirstSite(ctx context.Context, c *client.Client) (string, error) {
	sites, err := c.Sites(ctx)
	if err != nil {
		return "", err
	}
	if len(sites) == 0 {
		return "", errors.New("the service has no site: name one under sites in its configuration")
	}
	if len(sites) > 1 {
		a.Note(fmt.Sprintf("Of %s, the first of %d sites; --site names another.", sites[0].Host, len(sites)))
	}
	return sites[0].Host, nil
}
