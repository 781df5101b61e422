// Package notices has the commands about notices, channels and messages.
package notices

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/written"
)

// Command works with notices.
func Command(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "notices", Short: "Send a mail or a webhook message when asked, or when a rule is met",
		Long: `A notice is a message in a layout of your own: what is known of an address that somebody asks for, the first
visit from a country, refusals that jump, a checkup that warns, a label that arrives, an edition that waits.
It leaves over a channel, a mail server or a webhook. docs/notices.md says what stands in the files.`,
		Example: `  eastporch notices channel save mail --file mail.yaml --secret-file password.txt
  eastporch notices save first-visit --file first-visit.yaml
  eastporch notices preview first-visit
  eastporch notices test first-visit --to you@heronlake.example
  eastporch notices list
  eastporch notices sent`,
	}
	cmd.AddCommand(list(a), show(a), save(a), preview(a), test(a), ask(a), turn(a, "on", true), turn(a, "off", false), drop(a), channels(a), sent(a), message(a), resend(a), dropMessage(a))
	return cmd
}

// of is what most commands begin with: a client, and the site that they are about.
type of struct{ site string }

func (o *of) flag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVar(&o.site, "site", "", "the host of the site; the first configured one by default")
	return cmd
}

// with makes a command that does something with a client for a site.
func (o *of) with(a *terminal.App, do func(ctx context.Context, c *client.Client, site string, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.Client()
		site := o.site
		if err == nil && site == "" {
			site, err = a.FirstSite(cmd.Context(), c)
		}
		if err != nil {
			return err
		}
		return do(cmd.Context(), c, site, args)
	}
}

func list(a *terminal.App) *cobra.Command {
	var o of
	return o.flag(&cobra.Command{
		Use: "list", Short: "List notices and channels, and how they stand", Args: cobra.NoArgs,
		Example: `  eastporch notices list`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, _ []string) error {
			all, err := c.Notices(ctx, site)
			if err != nil {
				return err
			}
			return terminal.Emit(a, all.Notices, false, func() {
				if len(all.Notices) == 0 {
					fmt.Fprintf(a.Out, "%s has no notices. eastporch notices save --help says how to make one.\n", site)
				} else {
					t := terminal.NewTable(a.Out, table.Row{"Name", "When", "Channel", "Stands", "Last sent", "Waiting", "Left out"}, "Waiting", "Left out")
					for _, s := range all.Notices {
						last := ""
						if s.LastSent != nil {
							last = s.LastSent.Format("2006-01-02 15:04")
						}
						t.AppendRow(table.Row{s.Name, s.Sentence, s.Said.Channel, stands(&s), last, s.Waiting, s.LeftOut})
					}
					t.Render()
				}
				channelTable(a, all.Channels)
			})
		}),
	})
}

func channelTable(a *terminal.App, list []notice.ChannelState) {
	if len(list) == 0 {
		fmt.Fprintln(a.Out, "There is no channel yet. eastporch notices channel save --help says how to make one.")
		return
	}
	t := terminal.NewTable(a.Out, table.Row{"Channel", "Leads to", "Stands", "Sent in 24 h", "Waiting"}, "Sent in 24 h", "Waiting")
	for _, s := range list {
		sent := terminal.Thousands(s.SentToday)
		if s.Said.Kind == notice.Mail {
			sent += " of " + terminal.Thousands(int64(s.Said.ADay))
		}
		t.AppendRow(table.Row{s.Name, s.Said.Where(), because(string(s.Standing), s.Reason), sent, s.Waiting})
	}
	t.Render()
}

func stands(s *notice.State) string { return because(s.Standing, s.Reason) }

func because(word string, reason *string) string {
	if reason != nil {
		return word + ": " + *reason
	}
	return word
}

func show(a *terminal.App) *cobra.Command {
	var o of
	var file string
	cmd := &cobra.Command{
		Use: "show NAME", Short: "Show a notice, or write it into a file to edit", Args: cobra.ExactArgs(1),
		Example: `  eastporch notices show first-visit
  eastporch notices show first-visit --file first-visit.yaml`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, args []string) error {
			s, err := c.Notice(ctx, site, args[0])
			if err != nil {
				return err
			}
			if file != "" {
				return keep(a, file, s.Said)
			}
			return terminal.Emit(a, []notice.State{s}, true, func() { describe(a.Out, &s) })
		}),
	}
	cmd.Flags().StringVar(&file, "file", "", "write it as YAML here; - for standard output")
	return o.flag(cmd)
}

// keep writes what is said into a file, or to standard output.
func keep(a *terminal.App, file string, said any) error {
	text, err := written.Write(said)
	if err == nil && file != "-" {
		return os.WriteFile(file, text, 0o644)
	}
	if err == nil {
		_, err = a.Out.Write(text)
	}
	return err
}

// describe says what a notice is, and how it stands.
func describe(out io.Writer, s *notice.State) {
	fmt.Fprintf(out, "%s (%s), %s\n", s.Said.Title, s.Name, stands(s))
	fmt.Fprintf(out, "  %s\n", s.Sentence)
	apart := ""
	if s.Said.Limit.Each {
		apart = " of each"
	}
	fmt.Fprintf(out, "  at most %d%s in the last %s; %d left out in 7 days\n", s.Said.Limit.Most, apart, s.Said.Limit.Every, s.LeftOut)
	if q := s.Said.Quiet; q != nil {
		fmt.Fprintf(out, "  quiet from %s to %s, then %s\n", q.From, q.To, q.Then)
	}
	to := strings.Join(s.Said.To, ", ")
	if to == "" {
		to = "the webhook"
	}
	fmt.Fprintf(out, "  over %s to %s\n  Subject: %s\n", s.Said.Channel, to, s.Said.Subject)
	for line := range strings.Lines(s.Said.Text) {
		fmt.Fprintf(out, "  | %s\n", strings.TrimRight(line, "\n"))
	}
	if s.Said.HTML != "" {
		fmt.Fprintln(out, "  and as HTML; eastporch notices show --file writes it")
	}
}

// read reads a file, or standard input.
func read(a *terminal.App, file string) ([]byte, error) {
	switch file {
	case "":
		return nil, terminal.Usage(fmt.Errorf("--file: give the file that says what it is, or -"))
	case "-":
		return io.ReadAll(a.In)
	}
	return os.ReadFile(file)
}

func save(a *terminal.App) *cobra.Command {
	var o of
	var file string
	cmd := &cobra.Command{
		Use: "save NAME --file FILE", Short: "Make a notice, or change it", Args: cobra.ExactArgs(1),
		Long: `Takes a notice from a file of YAML or JSON; docs/notices.md says what stands there, and
eastporch notices show NAME --file - writes one that there is.`,
		Example: `  eastporch notices save first-visit --file first-visit.yaml
  eastporch notices show first-visit --file - | sed 's/days: 90/days: 30/' | eastporch notices save first-visit --file -`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, args []string) error {
			text, err := read(a, file)
			if err != nil {
				return err
			}
			said, err := notice.ReadFile(text)
			if err != nil {
				return err
			}
			s, err := c.SaveNotice(ctx, site, args[0], notice.Save{Said: said})
			if err != nil {
				return err
			}
			return terminal.Emit(a, []notice.State{s}, true, func() { describe(a.Out, &s) })
		}),
	}
	cmd.Flags().StringVar(&file, "file", "", "YAML or JSON; - for standard input")
	return o.flag(cmd)
}

// saidOf gives what a file says, or without one a notice that there is.
func saidOf(ctx context.Context, a *terminal.App, c *client.Client, site, name, file string) (notice.Said, error) {
	if file == "" {
		s, err := c.Notice(ctx, site, name)
		return s.Said, err
	}
	text, err := read(a, file)
	if err != nil {
		return notice.Said{}, err
	}
	return notice.ReadFile(text)
}

func preview(a *terminal.App) *cobra.Command {
	var o of
	var file string
	cmd := &cobra.Command{
		Use: "preview NAME", Short: "Show what a notice would say of two stored visits", Args: cobra.ExactArgs(1),
		Long: `Writes the notice for the newest visit with as many facts as there are, and for one that lacks some; lines that
are dropped say why. Nothing is sent. With --file the notice need not be saved.`,
		Example: `  eastporch notices preview first-visit
  eastporch notices preview first-visit --file first-visit.yaml`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, args []string) error {
			said, err := saidOf(ctx, a, c, site, args[0], file)
			if err != nil {
				return err
			}
			p, err := c.PreviewNotice(ctx, site, notice.PreviewOf{Said: said})
			if err != nil {
				return err
			}
			return terminal.Emit(a, p.Previews, false, func() {
				for i, one := range p.Previews {
					if i > 0 {
						fmt.Fprintln(a.Out)
					}
					show1(a.Out, &one)
				}
			})
		}),
	}
	cmd.Flags().StringVar(&file, "file", "", "what the notice is, instead of what is saved; - for standard input")
	return o.flag(cmd)
}

func show1(out io.Writer, s *notice.Shown) {
	fmt.Fprintf(out, "%s\n", s.Place)
	if len(s.To) > 0 {
		fmt.Fprintf(out, "  To: %s\n", strings.Join(s.To, ", "))
	}
	fmt.Fprintf(out, "  Subject: %s\n", s.Subject)
	for _, line := range s.Lines {
		if line.Dropped != nil {
			fmt.Fprintf(out, "  - dropped: %s\n", *line.Dropped)
		} else {
			fmt.Fprintln(out, strings.TrimRight("  | "+line.Text, " "))
		}
	}
}

func test(a *terminal.App) *cobra.Command {
	var o of
	var file, to string
	cmd := &cobra.Command{
		Use: "test NAME", Short: "Send a notice as a test", Args: cobra.ExactArgs(1),
		Example: `  eastporch notices test first-visit --to you@heronlake.example
  eastporch notices test refusals --file refusals.yaml`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, args []string) error {
			said, err := saidOf(ctx, a, c, site, args[0], file)
			if err != nil {
				return err
			}
			m, err := c.TestNotice(ctx, site, notice.Test{Said: said, Name: args[0], To: to})
			if err != nil {
				return err
			}
			return terminal.Emit(a, []notice.Message{m}, true, func() {
				fmt.Fprintf(a.Out, "%q waits to be sent to %s. What becomes of it: eastporch notices message %s\n", m.Subject, strings.Join(m.To, ", "), m.ID)
			})
		}),
	}
	cmd.Flags().StringVar(&file, "file", "", "what the notice is, instead of what is saved; - for standard input")
	cmd.Flags().StringVar(&to, "to", "", "who gets the mail; not for a webhook")
	return o.flag(cmd)
}

func ask(a *terminal.App) *cobra.Command {
	var o of
	var to string
	cmd := &cobra.Command{
		Use: "ask NAME ADDRESS", Short: "Have what is known of an address sent", Args: cobra.ExactArgs(2),
		Example: `  eastporch notices ask where-is 198.18.3.40 --to ida@crew.example`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, args []string) error {
			asked, err := c.AskNotice(ctx, site, args[0], notice.Ask{Address: args[1], To: to})
			if err != nil {
				return err
			}
			return terminal.Emit(a, []notice.Asked{asked}, true, func() { fmt.Fprintln(a.Out, asked.Said) })
		}),
	}
	cmd.Flags().StringVar(&to, "to", "", "who gets the answer, where the notice goes to whoever asked")
	return o.flag(cmd)
}

func turn(a *terminal.App, word string, to bool) *cobra.Command {
	var o of
	return o.flag(&cobra.Command{
		Use: word + " NAME", Short: "Switch a notice " + word, Args: cobra.ExactArgs(1),
		Example: `  eastporch notices ` + word + ` first-visit`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, args []string) error {
			s, err := c.Notice(ctx, site, args[0])
			if err == nil {
				s.Said.Enabled = to
				s, err = c.SaveNotice(ctx, site, args[0], notice.Save{Said: s.Said, Revision: &s.Revision})
			}
			if err != nil {
				return err
			}
			return terminal.Emit(a, []notice.State{s}, true, func() { fmt.Fprintf(a.Out, "%s: %s\n", s.Name, stands(&s)) })
		}),
	})
}

func drop(a *terminal.App) *cobra.Command {
	var o of
	return o.flag(&cobra.Command{
		Use: "drop NAME", Short: "Drop a notice; what it wrote stays listed", Args: cobra.ExactArgs(1),
		Example: `  eastporch notices drop first-visit`,
		RunE: o.with(a, func(ctx context.Context, c *client.Client, site string, args []string) error {
			if err := c.DropNotice(ctx, site, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s is gone.\n", args[0])
			return nil
		}),
	})
}
