// Package notices has the commands about notices, channels and messages.
package notices

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/documents"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/document"
	"eastporch/internal/core/notice"
)

// Command works with notices.
func Command(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "notices", Short: "Send a mail or a webhook message when asked, or when a rule is met",
		Long: `A notice is a message in a layout of your own: what is known of an address that somebody asks for, the first
visit from a country, refusals that jump, a checkup that warns, a label that arrives, an edition that waits.
It leaves over a channel, a mail server or a webhook. docs/notices.md says what stands in the files.`,
		Example: `  eastporch notices channel save mail mail.yaml --secret-file password.txt
  eastporch notices save first-visit first-visit.yaml
  eastporch notices preview first-visit
  eastporch notices test first-visit --to you@heronlake.example
  eastporch notices list
  eastporch notices sent`,
	}
	cmd.AddCommand(list(a), preview(a), test(a), ask(a), channels(a), sent(a), message(a), resend(a), dropMessage(a))
	cmd.AddCommand(kind.Commands(a)...)
	return cmd
}

// kind is how notices are worked with.
var kind = documents.Kind[notice.Said, notice.State]{
	Kind: document.Notice, Noun: "notice", Command: "notices", Example: "first-visit", Read: notice.ReadFile,
	Get: func(ctx context.Context, c *client.Client, site, name string) (notice.State, error) {
		return c.Notice(ctx, site, name)
	},
	Said: func(s *notice.State) notice.Said { return s.Said },
	Save: func(ctx context.Context, c *client.Client, site, name string, said notice.Said) (notice.State, error) {
		return c.SaveNotice(ctx, site, name, notice.Save{Said: said})
	},
	Drop: func(ctx context.Context, c *client.Client, site, name string) error {
		return c.DropNotice(ctx, site, name)
	},
	Draw: describe,
	Turn: func(ctx context.Context, c *client.Client, site string, s notice.State, on bool) (notice.State, error) {
		s.Said.Enabled = on
		return c.SaveNotice(ctx, site, s.Name, notice.Save{Said: s.Said, Revision: &s.Revision})
	},
}

func list(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	return o.Flag(&cobra.Command{
		Use: "list", Short: "List notices and channels, and how they stand", Args: cobra.NoArgs,
		Example: `  eastporch notices list`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, _ []string) error {
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

func preview(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	var file string
	cmd := &cobra.Command{
		Use: "preview NAME", Short: "Show what a notice would say of two stored visits", Args: cobra.ExactArgs(1),
		Long: `Writes the notice for the newest visit with as many facts as there are, and for one that lacks some; lines that
are dropped say why. Nothing is sent. With --file the notice need not be saved.`,
		Example: `  eastporch notices preview first-visit
  eastporch notices preview first-visit --file first-visit.yaml`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			said, err := kind.SaidOf(ctx, a, c, site, args[0], file)
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
	return o.Flag(cmd)
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
	o := documents.Of{App: a}
	var file, to string
	cmd := &cobra.Command{
		Use: "test NAME", Short: "Send a notice as a test", Args: cobra.ExactArgs(1),
		Example: `  eastporch notices test first-visit --to you@heronlake.example
  eastporch notices test refusals --file refusals.yaml`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			said, err := kind.SaidOf(ctx, a, c, site, args[0], file)
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
	return o.Flag(cmd)
}

func ask(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	var to string
	cmd := &cobra.Command{
		Use: "ask NAME ADDRESS", Short: "Have what is known of an address sent", Args: cobra.ExactArgs(2),
		Example: `  eastporch notices ask where-is 198.18.3.40 --to ida@crew.example`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			asked, err := c.AskNotice(ctx, site, args[0], notice.Ask{Address: args[1], To: to})
			if err != nil {
				return err
			}
			return terminal.Emit(a, []notice.Asked{asked}, true, func() { fmt.Fprintln(a.Out, asked.Said) })
		}),
	}
	cmd.Flags().StringVar(&to, "to", "", "who gets the answer, where the notice goes to whoever asked")
	return o.Flag(cmd)
}
