package shelf

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/documents"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/document"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/written"
)

// CorrectionsCommand works with what the owner knows better.
func CorrectionsCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "corrections",
		Short: "Manage corrections: ranges that you know better than the sources",
		Long: `Corrections rank before every source, apply at once, and live in the database of
the service: edition files do not have them.`,
	}
	cmd.AddCommand(correctionsListCommand(a), correctionsAddCommand(a), correctionsExportCommand(a), correctionsCheckCommand(a))
	cmd.AddCommand(corrections.Commands(a)...)
	return cmd
}

// corrections is how corrections are worked with as documents.
var corrections = documents.Kind[map[string]any, source.Correction]{
	Kind: document.Correction, Noun: "correction", Command: "corrections", Example: "198.18.7.0/24", Arg: "RANGE",
	Name: func(arg string) string {
		if span, err := addr.ParseRange(arg); err == nil {
			return span.String()
		}
		return arg
	},
	Read: func(text []byte) (said map[string]any, err error) {
		err = written.Read(text, &said)
		return said, err
	},
	Get: func(ctx context.Context, c *client.Client, _, name string) (source.Correction, error) {
		return correctionOf(ctx, c, name)
	},
	Said: func(c *source.Correction) map[string]any {
		said := map[string]any{"note": c.Note, "do_not_locate": c.DoNotLocate}
		for name, value := range map[string]*string{"country_code": c.CountryCode, "region_code": c.RegionCode, "city": c.City, "time_zone": c.TimeZone} {
			if value != nil {
				said[name] = *value
			}
		}
		for name, value := range map[string]*float64{"latitude": c.Latitude, "longitude": c.Longitude, "radius_km": c.RadiusKm} {
			if value != nil {
				said[name] = *value
			}
		}
		return said
	},
	Save: func(ctx context.Context, c *client.Client, _, name string, said map[string]any) (source.Correction, error) {
		said["range"] = name
		return c.Correct(ctx, said)
	},
	Drop: func(ctx context.Context, c *client.Client, _, name string) error {
		one, err := correctionOf(ctx, c, name)
		if err != nil {
			return err
		}
		return c.DropCorrection(ctx, one.ID.String())
	},
	Draw: func(out io.Writer, c *source.Correction) {
		fmt.Fprintf(out, "%s is %s. %s\n", c.Range, whereTo(c), c.Note)
	},
}

// correctionOf finds the correction of a range.
func correctionOf(ctx context.Context, c *client.Client, name string) (source.Correction, error) {
	list, err := c.Corrections(ctx)
	for _, one := range list {
		if one.Range == name {
			return one, nil
		}
	}
	if err == nil {
		err = fmt.Errorf("there is no correction of %s; eastporch corrections list has those that there are", name)
	}
	return source.Correction{}, err
}

// whereTo says where a correction says that its range is.
func whereTo(c *source.Correction) string {
	if c.DoNotLocate {
		return "not to be located"
	}
	return "in " + terminal.Join(", ", plain.Value(c.City), plain.Value(c.RegionCode), plain.Value(c.CountryCode))
}

func correctionsListCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the corrections, the newest first",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			list, err := c.Corrections(cmd.Context())
			if err != nil {
				return err
			}
			return terminal.Emit(a, list, false, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "There are no corrections.")
					return
				}
				t := terminal.NewTable(a.Out, table.Row{"Range", "Is in", "Note", "Made", "By"})
				for _, x := range list {
					t.AppendRow(table.Row{x.Range, strings.TrimPrefix(whereTo(&x), "in "), x.Note, x.MadeAt.Format(time.DateTime), x.MadeBy})
				}
				t.Render()
			})
		},
	}
}

func correctionsAddCommand(a *terminal.App) *cobra.Command {
	texts := map[string]*string{}
	numbers := map[string]*float64{}
	var never bool
	cmd := &cobra.Command{
		Use:   "add RANGE",
		Short: "Add or replace a correction, effective at once",
		Example: `  eastporch corrections add 198.18.7.0/24 --country-code PT --city Lisbon --note "moved in October"
  eastporch corrections add 198.18.9.4 --do-not-locate`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			body := map[string]any{"range": args[0]}
			if never {
				body["do_not_locate"] = true
			}
			for name, v := range texts {
				if *v != "" {
					body[name] = *v
				}
			}
			for name, v := range numbers {
				if cmd.Flags().Changed(terminal.FlagName(name)) {
					body[name] = *v
				}
			}
			c, err := a.Client()
			if err != nil {
				return err
			}
			made, err := c.Correct(cmd.Context(), body)
			if err != nil {
				return err
			}
			return terminal.Emit(a, []source.Correction{made}, true, func() { fmt.Fprintf(a.Out, "%s is corrected from now on.\n", made.Range) })
		},
	}
	for _, f := range []struct{ name, usage string }{
		{"country_code", "ISO 3166-1 alpha-2"},
		{"region_code", "ISO 3166-2"},
		{"city", "the town"},
		{"time_zone", "IANA name"},
		{"note", "why"},
	} {
		texts[f.name] = cmd.Flags().String(terminal.FlagName(f.name), "", f.usage)
	}
	for _, f := range []struct{ name, usage string }{{"latitude", "degrees"}, {"longitude", "degrees"}, {"radius_km", "how exact the point is"}} {
		numbers[f.name] = cmd.Flags().Float64(terminal.FlagName(f.name), 0, f.usage)
	}
	cmd.Flags().BoolVar(&never, "do-not-locate", false, "the range is not to be located")
	return cmd
}

func correctionsExportCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:     "export",
		Short:   "Export the corrections as a geofeed (RFC 8805)",
		Example: "  eastporch corrections export > geofeed.csv",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			return c.ExportCorrections(cmd.Context(), a.Out)
		},
	}
}

func correctionsCheckCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Validate a geofeed before you publish it",
		Long: `Reads a geofeed as everybody who follows RFC 8805 would, and says what they would
reject or drop, and why. The exit code is 1 where a line would be rejected.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			s, err := source.ReadGeofeed(f, atlas.About{Name: args[0], Rank: 1})
			if err != nil && !errors.Is(err, compile.ErrTooManyRejects) {
				return err
			}
			type finding struct {
				Kind string `json:"kind"`
				atlas.Note
			}
			list := []finding{}
			for _, n := range s.Rejects() {
				list = append(list, finding{"rejected", n})
			}
			for _, n := range s.Remarks() {
				list = append(list, finding{"dropped", n})
			}
			err = terminal.Emit(a, list, false, func() {
				fmt.Fprintf(a.Out, "Good: %s of %s.\n", terminal.Thousands(s.Accepted), terminal.Count(s.Rows, "line"))
				if len(list) > 0 {
					fmt.Fprintln(a.Out)
					t := terminal.NewTable(a.Out, table.Row{"Line", "", "Reason", "Text"}, "Line")
					for _, x := range list {
						t.AppendRow(table.Row{x.Line, x.Kind, x.Reason, terminal.Cut(x.Text, 50)})
					}
					t.Render()
				}
			})
			if err == nil && s.Rejected > 0 {
				err = fmt.Errorf("would be rejected: %s", terminal.Count(s.Rejected, "line"))
			}
			return err
		},
	}
}
