// Package documents has the commands that all kinds of what owners write down share: show, save, drop, history, and on and off
// where a kind can be switched. Begin with [Kind].
package documents

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/document"
	"eastporch/internal/core/written"
)

// Of is the site that a command is about.
type Of struct {
	*terminal.App
	site string
}

// Flag adds --site to a command.
func (o *Of) Flag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVar(&o.site, "site", "", "the host of the site; the first configured one by default")
	return cmd
}

// With makes a command that does something with a client for a site.
func (o *Of) With(do func(ctx context.Context, c *client.Client, site string, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, site, err := o.Open(cmd.Context())
		if err != nil {
			return err
		}
		return do(cmd.Context(), c, site, args)
	}
}

// Open gives the service and the site that a command is about.
func (o *Of) Open(ctx context.Context) (*client.Client, string, error) {
	c, err := o.Client()
	site := o.site
	if err == nil && site == "" {
		site, err = o.FirstSite(ctx, c)
	}
	return c, site, err
}

// A Kind says how documents of a kind are worked with.
type Kind[Said, State any] struct {
	Kind    document.Kind
	Noun    string                  // such as companion
	Command string                  // such as companions
	Example string                  // the name of one; "" where a site has one without a name
	Arg     string                  // what the name is called as an argument; "" for NAME
	Name    func(arg string) string // the name that an argument is another spelling of; nil where there is one spelling
	Read    func(text []byte) (Said, error)
	Write   func(said Said) ([]byte, error) // what Read reads; nil as YAML
	Get     func(ctx context.Context, c *client.Client, site, name string) (State, error)
	Said    func(s *State) Said
	Save    func(ctx context.Context, c *client.Client, site, name string, said Said) (State, error)
	Drop    func(ctx context.Context, c *client.Client, site, name string) error // nil where none is dropped
	Draw    func(out io.Writer, s *State)
	// Turn switches one on or off, as it was read; nil where that is not possible.
	Turn func(ctx context.Context, c *client.Client, site string, s State, on bool) (State, error)
}

// Commands are those that the kind can do.
func (k *Kind[Said, State]) Commands(a *terminal.App) []*cobra.Command {
	list := []*cobra.Command{k.Shows(a), k.Saves(a), k.History(a)}
	if k.Drop != nil {
		list = append(list, k.Drops(a))
	}
	if k.Turn != nil {
		list = append(list, k.turns(a, "on", true), k.turns(a, "off", false))
	}
	return list
}

// named is how a command is used that wants the name of a document, and more arguments.
func (k *Kind[Said, State]) named(verb string, more ...string) (use string, args cobra.PositionalArgs, example string) {
	words := []string{verb}
	lines := []string{"  eastporch", k.Command, verb}
	if k.Example != "" {
		words, lines = append(words, cmp.Or(k.Arg, "NAME")), append(lines, k.Example)
	}
	words, lines = append(words, more...), append(lines, more...)
	file := k.Example
	if file == "" || strings.Contains(file, "/") { // which would be a file in a directory
		file = k.Noun
	}
	example = strings.ReplaceAll(strings.Join(lines, " "), "FILE", file+".yaml")
	return strings.Join(words, " "), cobra.ExactArgs(len(words) - 1), example
}

// nameOf is the name among arguments.
func (k *Kind[Said, State]) nameOf(args []string) string {
	if k.Example == "" {
		return ""
	}
	if k.Name != nil {
		return k.Name(args[0])
	}
	return args[0]
}

// emit shows one.
func (k *Kind[Said, State]) emit(a *terminal.App, s *State) error {
	return terminal.Emit(a, []State{*s}, true, func() { k.Draw(a.Out, s) })
}

// Shows is the command show.
func (k *Kind[Said, State]) Shows(a *terminal.App) *cobra.Command {
	o := Of{App: a}
	var file string
	use, args, example := k.named("show")
	cmd := &cobra.Command{
		Use: use, Short: "Show a " + k.Noun + ", or write it into a file to edit", Args: args, Example: example + "\n" + example + " --file -",
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			s, err := k.Get(ctx, c, site, k.nameOf(args))
			if err != nil {
				return err
			}
			if file == "" {
				return k.emit(a, &s)
			}
			if k.Write == nil {
				return Write(a, file, k.Said(&s))
			}
			text, err := k.Write(k.Said(&s))
			if err != nil {
				return err
			}
			return into(a, file, text)
		}),
	}
	cmd.Flags().StringVar(&file, "file", "", "write it as YAML here; - for standard output")
	return o.Flag(cmd)
}

// Write writes what is said into a file, or to standard output.
func Write(a *terminal.App, file string, said any) error {
	text, err := written.Write(said)
	if err != nil {
		return err
	}
	return into(a, file, text)
}

func into(a *terminal.App, file string, text []byte) (err error) {
	if file != "-" {
		return os.WriteFile(file, text, 0o644)
	}
	_, err = a.Out.Write(text)
	return err
}

// ReadFile reads a file, or standard input where it is -.
func ReadFile(a *terminal.App, file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(a.In)
	}
	return os.ReadFile(file)
}

// SaidOf gives what a file says, or without one a document that there is.
func (k *Kind[Said, State]) SaidOf(ctx context.Context, a *terminal.App, c *client.Client, site, name, file string) (said Said, err error) {
	if file == "" {
		s, err := k.Get(ctx, c, site, name)
		if err != nil {
			return said, err
		}
		return k.Said(&s), nil
	}
	text, err := ReadFile(a, file)
	if err != nil {
		return said, err
	}
	return k.Read(text)
}

// Saves is the command save.
func (k *Kind[Said, State]) Saves(a *terminal.App) *cobra.Command {
	o := Of{App: a}
	use, args, example := k.named("save", "FILE")
	_, _, show := k.named("show")
	return o.Flag(&cobra.Command{
		Use: use, Short: "Make a " + k.Noun + ", or change it", Args: args,
		Long: fmt.Sprintf(`Takes a %s from a file of YAML or JSON, - for standard input. What is left out is as usual;
%s --file - writes one that there is.`, k.Noun, strings.TrimSpace(show)),
		Example: example,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			said, err := k.SaidOf(ctx, a, c, site, "", args[len(args)-1])
			if err != nil {
				return err
			}
			s, err := k.Save(ctx, c, site, k.nameOf(args), said)
			if err != nil {
				return err
			}
			return k.emit(a, &s)
		}),
	})
}

// Drops is the command drop.
func (k *Kind[Said, State]) Drops(a *terminal.App) *cobra.Command {
	o := Of{App: a}
	use, args, example := k.named("drop")
	return o.Flag(&cobra.Command{
		Use: use, Short: "Drop a " + k.Noun + "; its history stays, and brings it back", Args: args, Example: example,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			err := k.Drop(ctx, c, site, k.nameOf(args))
			if err == nil {
				fmt.Fprintf(terminal.ForPeople(a.Out), "%s is gone.\n", k.nameOf(args))
			}
			return err
		}),
	})
}

func (k *Kind[Said, State]) turns(a *terminal.App, word string, on bool) *cobra.Command {
	o := Of{App: a}
	use, args, example := k.named(word)
	return o.Flag(&cobra.Command{
		Use: use, Short: "Switch a " + k.Noun + " " + word, Args: args, Example: example,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			s, err := k.Get(ctx, c, site, k.nameOf(args))
			if err == nil {
				s, err = k.Turn(ctx, c, site, s, on)
			}
			if err != nil {
				return err
			}
			return k.emit(a, &s)
		}),
	})
}

// History is the command history.
func (k *Kind[Said, State]) History(a *terminal.App) *cobra.Command {
	o := Of{App: a}
	var back int64
	var limit int
	use, args, example := k.named("history")
	cmd := &cobra.Command{
		Use: use, Short: "List earlier revisions of a " + k.Noun + ", or go back to one", Args: args, Example: example + "\n" + example + " --return 2",
		Long: `Lists who saved or dropped it when, the newest first. --return puts an earlier revision in force again, as a
new one; also after it was dropped.`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			name, list := k.nameOf(args), []api.DocumentRevision(nil)
			var err error
			if back != 0 {
				var r api.DocumentRevision
				r, err = c.ReturnDocument(ctx, k.Kind, site, name, back)
				list = []api.DocumentRevision{r}
			} else {
				list, err = c.History(ctx, k.Kind, site, name, limit)
			}
			if err != nil {
				return err
			}
			return terminal.Emit(a, list, false, func() {
				t := terminal.NewTable(a.Out, table.Row{"Revision", "When", "Who", "What"}, "Revision")
				for _, r := range list {
					t.AppendRow(table.Row{r.Revision, r.MadeAt.Format(time.DateTime), r.MadeBy, what(&r)})
				}
				t.Render()
			})
		}),
	}
	cmd.Flags().Int64Var(&back, "return", 0, "put this revision in force again")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at the most")
	return o.Flag(cmd)
}

// what says what a revision did.
func what(r *api.DocumentRevision) string {
	switch {
	case r.Dropped:
		return "dropped"
	case len(r.Changes) > 0:
		return strings.Join(r.Changes, "\n")
	case r.Revision == 1:
		return "made"
	}
	return "saved"
}
