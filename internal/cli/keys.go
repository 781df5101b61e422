package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/keys"
)

func keysCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "keys",
		Short: "Create, list and revoke keys",
		Long: `Keys say who may ask what. Scope page: record a visit and read one's own card,
from pages of the key's origins, for its sites. Scope server: report and look up
for others too, and give ids. Scope admin: everything.`,
	}
	cmd.AddCommand(keysListCommand(a), keysCreateCommand(a), keysRenameCommand(a), keysRevokeCommand(a))
	return cmd
}

func keysListCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List all keys, the newest first", Args: cobra.NoArgs,
		Example: "  eastporch keys list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			keys, err := c.Keys(cmd.Context())
			if err != nil {
				return err
			}
			return terminal.Emit(a, keys, false, func() { drawKeys(a, keys) })
		},
	}
}

func drawKeys(a *terminal.App, keys []keys.Key) {
	t := terminal.NewTable(a.Out, table.Row{"Name", "Scope", "Begins", "Sites", "Origins", "Uses", "Last used", "State", "Made by", "Id"}, "Uses")
	for _, k := range keys {
		state, used := "in force", "never"
		if k.Revoked != nil {
			state = "revoked " + k.Revoked.UTC().Format(time.DateOnly)
		}
		if k.LastUsed != nil {
			used = k.LastUsed.UTC().Format(time.DateTime)
		}
		sites := strings.Join(k.Sites, ", ")
		if sites == "" {
			sites = "all"
		}
		t.AppendRow(table.Row{terminal.Shorten(k.Name, 30), k.Scope, k.Start + "…", sites, strings.Join(k.Origins, ", "), k.Uses, used, state, terminal.Shorten(k.Maker.Name, 30), k.ID})
	}
	t.Render()
}

func keysCreateCommand(a *terminal.App) *cobra.Command {
	var k keys.NewKey
	cmd := &cobra.Command{
		Use:   "create NAME --scope SCOPE",
		Short: "Create a key, and show it once",
		Example: `  eastporch keys create "the shop's server" --scope server
  eastporch keys create "pages" --scope page --site heronlake.example --origin https://heronlake.example`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			k.Name = args[0]
			c, err := a.Client()
			if err != nil {
				return err
			}
			created, err := c.CreateKey(cmd.Context(), k)
			if err != nil {
				return err
			}
			return terminal.Emit(a, []api.Created{created}, true, func() {
				a.Note("This is shown once; keep it:")
				fmt.Fprintln(a.Out, created.Secret)
			})
		},
	}
	cmd.Flags().StringVar((*string)(&k.Scope), "scope", "server", "page, server or admin")
	cmd.Flags().StringSliceVar(&k.Sites, "site", nil, "bind it to this site; may be repeated")
	cmd.Flags().StringSliceVar(&k.Origins, "origin", nil, "pages of this origin may use it; may be repeated")
	return cmd
}

func keysRenameCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use: "rename ID NAME", Short: "Rename a key", Args: cobra.ExactArgs(2),
		Example: `  eastporch keys rename 0193f2c4-… "the shop's server"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			return c.RenameKey(cmd.Context(), args[0], args[1])
		},
	}
}

func keysRevokeCommand(a *terminal.App) *cobra.Command {
	var withMade bool
	cmd := &cobra.Command{
		Use: "revoke ID", Short: "Revoke a key", Args: cobra.ExactArgs(1),
		Long: `Revoke a key. The console's sessions that it opened end with it, within
two seconds everywhere. Keys that were made with it stay in force and are listed;
--with-made revokes them too.`,
		Example: `  eastporch keys revoke 0193f2c4-…
  eastporch keys revoke 0193f2c4-… --with-made`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			r, err := c.RevokeKey(cmd.Context(), args[0], withMade)
			if err != nil {
				return err
			}
			return terminal.Emit(a, []api.Revoked{r}, true, func() {
				a.Note(fmt.Sprintf("Revoked: %d.", len(r.Revoked)))
				if len(r.Made.Keys) == 0 {
					return
				}
				a.Note("These were made with it and are still in force; revoke them with --with-made, or one by one:")
				drawKeys(a, r.Made.Keys)
			})
		},
	}
	cmd.Flags().BoolVar(&withMade, "with-made", false, "revoke the keys that were made with it too")
	return cmd
}

func auditLogCommand(a *terminal.App) *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use: "audit-log", Short: "Show the audit log: keys, sessions, configuration", Args: cobra.NoArgs,
		Example: "  eastporch audit-log --limit 20",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if limit < 1 || limit > 500 {
				return terminal.Usage(errors.New("--limit: give 1 to 500"))
			}
			c, err := a.Client()
			if err != nil {
				return err
			}
			events, err := c.Events(cmd.Context(), limit)
			if err != nil {
				return err
			}
			return terminal.Emit(a, events, false, func() {
				t := terminal.NewTable(a.Out, table.Row{"Time", "What", "By", "Detail"})
				for _, e := range events {
					t.AppendRow(table.Row{e.Time.UTC().Format(time.DateTime), e.What, e.Actor, terminal.Shorten(e.Detail, 80)})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at the most")
	return cmd
}

func loginCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "login LINK | KEY",
		Short: "Sign in to a server, with its one-time link or a key",
		Long: `With the one-time link that serve prints, makes an admin key for this machine and
keeps it in the profile, a file of mode 600. With a key, checks it and keeps it
for --server.`,
		Example: `  eastporch login http://127.0.0.1:8081/sign-in#porch_once_…
  eastporch login porch_server_… --server https://porch.heronlake.example`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			server, link, isLink := strings.Cut(args[0], "/sign-in#")
			secret := args[0]
			if isLink {
				host, err := os.Hostname()
				if err != nil {
					host = "a machine"
				}
				if secret, err = client.Exchange(cmd.Context(), server, link, "command line on "+host, nil); err != nil {
					return err
				}
			} else {
				server = strings.TrimSuffix(a.Server, "/")
				c, err := client.New(server, secret, nil)
				if err != nil {
					return terminal.Usage(err)
				}
				if _, err := c.Trail(cmd.Context(), api.TrailRequest{}); err != nil {
					return err
				}
			}
			if err := terminal.KeepKey(a.Store, server, secret); err != nil {
				return err
			}
			a.Note(fmt.Sprintf("A key for %s is kept in %s.", server, a.Store))
			return nil
		},
	}
}
