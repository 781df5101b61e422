package documents

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/document"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/written"
)

// variants is how content variants are worked with.
var variants = Kind[variant.Set, api.SiteVariants]{
	Kind: document.Variants, Noun: "set of variants", Command: "variants", Example: "offer",
	Read: func(text []byte) (variant.Set, error) {
		set := variant.Set{Rules: []variant.Rule{}}
		return set, written.Read(text, &set)
	},
	Get: func(ctx context.Context, c *client.Client, site, name string) (api.SiteVariants, error) {
		all, err := c.Variants(ctx, site)
		for _, s := range all.Sets {
			if s.Name == name {
				return s, nil
			}
		}
		if err == nil {
			err = fmt.Errorf("there are no variants %s; eastporch variants list has those that there are", name)
		}
		return api.SiteVariants{}, err
	},
	Said: func(s *api.SiteVariants) variant.Set {
		return variant.Set{Name: s.Name, Default: s.Default, Rules: s.Rules}
	},
	Save: func(ctx context.Context, c *client.Client, site, name string, said variant.Set) (api.SiteVariants, error) {
		said.Name = name
		return api.SiteVariants{Name: name, Default: said.Default, Rules: said.Rules, From: "console"}, c.SaveVariants(ctx, site, name, said)
	},
	Drop: func(ctx context.Context, c *client.Client, site, name string) error {
		return c.DropVariants(ctx, site, name)
	},
	Draw: func(out io.Writer, s *api.SiteVariants) {
		fmt.Fprintf(out, "%s, from the %s: %s by default, %s\n", s.Name, s.From, s.Default, terminal.Count(len(s.Rules), "rule"))
	},
}

// VariantsCommand works with content variants.
func VariantsCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "variants", Short: "Choose what a page shows by where its visitors are",
		Long: `Sets of content variants: each gives a page one word by country, group, area, label, language, hour and more. Those of
the configuration are listed too, and changed there. docs/localization.md says what stands in the files.`,
		Example: "  eastporch variants list\n  eastporch variants show offer --file offer.yaml\n  eastporch variants save offer offer.yaml",
	}
	o := Of{App: a}
	cmd.AddCommand(o.Flag(&cobra.Command{
		Use: "list", Short: "List the sets of content variants", Args: cobra.NoArgs, Example: "  eastporch variants list",
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, _ []string) error {
			all, err := c.Variants(ctx, site)
			if err != nil {
				return err
			}
			return terminal.Emit(a, all.Sets, false, func() {
				if len(all.Sets) == 0 {
					fmt.Fprintf(a.Out, "%s has no content variants. eastporch variants save --help says how to make some.\n", site)
					return
				}
				t := terminal.NewTable(a.Out, table.Row{"Name", "From", "Default", "Others"})
				for _, s := range all.Sets {
					var others []string
					for _, r := range s.Rules {
						others = append(others, r.Variant)
					}
					t.AppendRow(table.Row{s.Name, s.From, s.Default, strings.Join(others, ", ")})
				}
				t.Render()
			})
		}),
	}))
	cmd.AddCommand(variants.Commands(a)...)
	return cmd
}
