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
	"eastporch/internal/core/plain"
)

func channels(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "channel", Short: "Work with channels: mail servers and webhooks", Args: cobra.NoArgs,
		Example: `  eastporch notices channel save mail mail.yaml --secret-file password.txt
  eastporch notices channel show mail --file -
  eastporch notices channel drop mail`,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	var secretFile string
	kind := documents.Kind[notice.ChannelSaid, notice.ChannelState]{
		Kind: document.Channel, Noun: "channel", Command: "notices channel", Example: "mail", Read: notice.ReadChannelFile,
		Get: func(ctx context.Context, c *client.Client, site, name string) (notice.ChannelState, error) {
			all, err := c.Notices(ctx, site)
			for _, s := range all.Channels {
				if s.Name == name {
					return s, nil
				}
			}
			if err == nil {
				err = fmt.Errorf("there is no channel %s; eastporch notices list has those that there are", name)
			}
			return notice.ChannelState{}, err
		},
		Said: func(s *notice.ChannelState) notice.ChannelSaid { return s.Said },
		Save: func(ctx context.Context, c *client.Client, site, name string, said notice.ChannelSaid) (notice.ChannelState, error) {
			save := notice.ChannelSave{Said: said}
			if secretFile != "" {
				secret, err := documents.ReadFile(a, secretFile)
				if err != nil {
					return notice.ChannelState{}, err
				}
				save.NewSecret = strings.TrimSpace(string(secret))
			}
			return c.SaveChannel(ctx, site, name, save)
		},
		Drop: func(ctx context.Context, c *client.Client, site, name string) error {
			return c.DropChannel(ctx, site, name)
		},
		Draw: func(_ io.Writer, s *notice.ChannelState) { channelTable(a, []notice.ChannelState{*s}) },
	}
	saves := kind.Saves(a)
	saves.Long += `
With --secret-file the password of the mail server, or the key that messages to a webhook are signed with, goes to the
service, which keeps it and never gives it back.`
	saves.Example = `  eastporch notices channel save mail mail.yaml --secret-file password.txt
  openssl rand -hex 32 > key.txt
  eastporch notices channel save hook hook.yaml --secret-file key.txt`
	saves.Flags().StringVar(&secretFile, "secret-file", "", "a file with the password or key; - for standard input")
	cmd.AddCommand(saves, kind.Shows(a), kind.Drops(a), kind.History(a))
	return cmd
}

func sent(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	var name string
	cmd := &cobra.Command{
		Use: "sent", Short: "List what was sent, what waits and what failed", Args: cobra.NoArgs,
		Example: `  eastporch notices sent
  eastporch notices sent --notice first-visit`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, _ []string) error {
			list, err := c.Messages(ctx, site, name, nil)
			if err != nil {
				return err
			}
			return terminal.Emit(a, list.Messages, false, func() {
				s := list.Sums
				fmt.Fprintf(a.Out, "The last 7 days: %d delivered, %d waiting, %d failed, %d dropped; %d left out by limits, %d held by quiet times.\n", s.Delivered, s.Waiting, s.Failed, s.Dropped, s.LeftOut, s.Held)
				if len(list.Messages) == 0 {
					return
				}
				t := terminal.NewTable(a.Out, table.Row{"Time", "Subject", "To", "Result", "Attempts", "Id"}, "Attempts")
				for _, m := range list.Messages {
					t.AppendRow(table.Row{m.Time.Format("2006-01-02 15:04"), m.Subject, recipients(m.To), result(&m), fmt.Sprintf("%d of %d", m.Attempts, m.AttemptsMost), m.ID})
				}
				t.Render()
				if list.Next != nil {
					fmt.Fprintln(a.Out, "There are older ones.")
				}
			})
		}),
	}
	cmd.Flags().StringVar(&name, "notice", "", "only those of a notice")
	return o.Flag(cmd)
}

func recipients(to []string) string {
	if len(to) > 1 {
		return fmt.Sprintf("%s +%d", to[0], len(to)-1)
	}
	return strings.Join(to, "")
}

func result(m *notice.Message) string {
	out := string(m.State)
	if m.Result != "" && m.Result != out {
		out += ": " + plain.Clean(m.Result, 80)
	}
	if m.NextTry != nil && m.Attempts > 0 {
		out += ", again " + m.NextTry.Format("15:04")
	}
	return out
}

func message(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	return o.Flag(&cobra.Command{
		Use: "message ID", Short: "Show a message, and every attempt to deliver it", Args: cobra.ExactArgs(1),
		Example: `  eastporch notices message 01980000-0000-7000-8000-000000000000`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			m, err := c.Message(ctx, site, args[0])
			if err != nil {
				return err
			}
			return terminal.Emit(a, []notice.MessageWhole{m}, true, func() {
				fmt.Fprintf(a.Out, "%s\n  %s over %s to %s: %s\n", m.Message.Subject, m.Message.Time.Format("2006-01-02 15:04:05"), m.Message.Channel, strings.Join(m.Message.To, ", "), result(&m.Message))
				for line := range strings.Lines(m.Text) {
					fmt.Fprintln(a.Out, strings.TrimRight("  | "+line, " \n"))
				}
				for _, t := range m.Tries {
					fmt.Fprintf(a.Out, "  %s %s: %s (%d ms)\n", t.Time.Format("2006-01-02 15:04:05"), t.To, t.Result, t.TookMs)
				}
			})
		}),
	})
}

func resend(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	return o.Flag(&cobra.Command{
		Use: "resend ID", Short: "Send a message again, or try one that waits at once", Args: cobra.ExactArgs(1),
		Example: `  eastporch notices resend 01980000-0000-7000-8000-000000000000`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			m, err := c.ResendMessage(ctx, site, args[0])
			if err != nil {
				return err
			}
			return terminal.Emit(a, []notice.Message{m}, true, func() { fmt.Fprintf(a.Out, "%s waits to be sent.\n", m.ID) })
		}),
	})
}

func dropMessage(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	return o.Flag(&cobra.Command{
		Use: "drop-message ID", Short: "Drop a message that waits", Args: cobra.ExactArgs(1),
		Example: `  eastporch notices drop-message 01980000-0000-7000-8000-000000000000`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			if err := c.DropMessage(ctx, site, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s is dropped.\n", args[0])
			return nil
		}),
	})
}
