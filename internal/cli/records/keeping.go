package records

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

func visitsTailCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "tail",
		Short: "Follow visits as they are stored, until Ctrl-C",
		Long: `Writes every visit as it is stored, a line each. Where the connection breaks it
goes on from where it was, and misses none.`,
		Example: `  eastporch visits tail
  eastporch visits tail --country-code PT --output ndjson | jq .path`,
		Args: cobra.NoArgs,
	}
	q := asked{filter: visitFlags(cmd)}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if a.Output == "csv" || a.Output == "yaml" {
			return terminal.Usage(fmt.Errorf("--output: %s has an end, and this has none; give table, json or ndjson", a.Output))
		}
		c, query, err := ask(a, cmd, &q)
		if err != nil {
			return err
		}
		cut, err := truncates(cmd, c, query.Get("site"))
		if err != nil {
			return err
		}
		a.Note("Waiting for visits of " + query.Get("site") + "; Ctrl-C ends it.")
		err = c.Follow(cmd.Context(), query, func(v visit.Visit) error {
			if a.Output == "json" || a.Output == "ndjson" {
				one := *a
				one.Output = "ndjson"
				return terminal.Emit(&one, []visit.Visit{v}, false, nil)
			}
			w := v.Card.Location
			_, err := fmt.Fprintf(terminal.ForPeople(a.Out), "%s  %-22s  %-28s  %-24s  %s\n", v.Time.Format(time.TimeOnly), terminal.Shorten(addressOf(v, cut), 22),
				terminal.Shorten(terminal.Join(", ", terminal.Place(w), plain.Value(w.CountryCode)), 28), terminal.Shorten(v.Path, 24), marks(v))
			return err
		})
		if cmd.Context().Err() != nil {
			return nil
		}
		return err
	}
	return cmd
}

func visitsStateCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use: "state", Short: "Show the queue, and how long visits are kept", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			s, err := c.VisitsState(cmd.Context())
			if err != nil {
				return err
			}
			return terminal.Emit(a, []api.VisitsState{s}, true, func() {
				t := terminal.NewTable(a.Out, nil)
				t.AppendRow(table.Row{"waiting", fmt.Sprintf("%s, %s of %s bytes", terminal.Visits(s.Intake.Waiting), terminal.Thousands(s.Intake.Bytes), terminal.Thousands(s.Intake.Most))})
				if s.Intake.Away != nil {
					t.AppendRow(table.Row{"", "the database takes none: " + *s.Intake.Away})
				}
				n := s.Intake.Since
				t.AppendRow(table.Row{"since the start", fmt.Sprintf("%s accepted, %s stored, %s sent again, %s turned away", terminal.Thousands(n.Accepted), terminal.Thousands(n.Stored), terminal.Thousands(n.Duplicate), terminal.Thousands(n.Full))})
				t.AppendRow(table.Row{"in quarantine", terminal.Thousands(int64(s.Quarantine))})
				if s.Kept.Since != nil {
					t.AppendRow(table.Row{"kept since", fmt.Sprintf("%s, %d weeks", s.Kept.Since.Format(time.DateOnly), s.Kept.Weeks)})
				}
				if s.Kept.NextDrop != nil {
					t.AppendRow(table.Row{"oldest week goes", s.Kept.NextDrop.Format(time.DateOnly)})
				} else {
					t.AppendRow(table.Row{"oldest week goes", "never: retention_days is 0, or there is none"})
				}
				if s.NextKey != nil {
					t.AppendRow(table.Row{"next key of hashes", s.NextKey.Format(time.DateOnly)})
				}
				t.Render()
			})
		},
	}
}

// fileFormat gives the format of visits that a file's name ends with, unless it
// is said.
func fileFormat(said, file string) (string, error) {
	if said != "" {
		return said, nil
	}
	switch ext := strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), "."); ext {
	case "csv", "ndjson", "geojson", "parquet":
		return ext, nil
	}
	return "", terminal.Usage(fmt.Errorf("--format: the name %q does not say it; give csv, ndjson, geojson or parquet", file))
}

func visitsExportCommand(a *terminal.App) *cobra.Command {
	var format, address string
	var raw bool
	cmd := &cobra.Command{
		Use:   "export FILE",
		Short: "Export visits to a file, the oldest first; - is standard output",
		Long: `Writes whole visits as CSV, NDJSON, GeoJSON or Parquet. In CSV, texts that a
spreadsheet would take for formulas get an apostrophe in front, unless --raw, which
alone reads back exactly.`,
		Example: `  eastporch visits export visits.parquet --last 30d
  eastporch visits export visits.csv --raw
  eastporch visits export - --format ndjson --address 198.18.3.40`,
		Args: cobra.ExactArgs(1),
	}
	q := asked{filter: visitFlags(cmd)}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		format, err := fileFormat(format, args[0])
		if err != nil {
			return err
		}
		c, query, err := ask(a, cmd, &q)
		if err != nil {
			return err
		}
		query.Set("format", format)
		if raw {
			query.Set("raw", "true")
		}
		if address != "" {
			query.Set("address", address)
		}
		if args[0] == "-" {
			return c.ExportVisits(cmd.Context(), query, a.Out)
		}
		file, err := os.Create(args[0] + ".part") // so that a file with the name is whole
		if err != nil {
			return err
		}
		defer os.Remove(file.Name())
		bar := a.NewBar(-1, "Writing", true)
		err = c.ExportVisits(cmd.Context(), query, io.MultiWriter(file, bar))
		bar.Done()
		if err = errors.Join(err, file.Close()); err != nil {
			return err
		}
		return os.Rename(file.Name(), args[0])
	}
	cmd.Flags().StringVar(&format, "format", "", "csv, ndjson, geojson or parquet; by default as the file's name ends")
	cmd.Flags().StringVar(&address, "address", "", "only visits of this address, where the site keeps enough to tell")
	cmd.Flags().BoolVar(&raw, "raw", false, "leave texts that look like formulas as they are")
	cmd.Flags().StringVar(&q.last, "last", "", "instead of --from: this long back, such as 24h or 30d")
	return cmd
}

func visitsImportCommand(a *terminal.App) *cobra.Command {
	var format string
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "Import visits from a file that visits export wrote; - is standard input",
		Long: `Visits that are stored already are left as they are, so that an import that broke
off can be begun again. They are kept as the site's privacy mode says now. Distinct
visitors are not told apart across an export.`,
		Example: "  eastporch visits import visits.parquet\n  zcat visits.ndjson.gz | eastporch visits import - --format ndjson",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			format, err := fileFormat(format, args[0])
			if err != nil {
				return err
			}
			var in io.Reader = a.In
			most := int64(-1)
			if args[0] != "-" {
				file, err := os.Open(args[0])
				if err != nil {
					return err
				}
				defer file.Close()
				if info, err := file.Stat(); err == nil {
					most = info.Size()
				}
				in = file
			}
			c, err := a.Client()
			if err != nil {
				return err
			}
			bar := a.NewBar(most, "Sending", true)
			done, err := c.Import(cmd.Context(), format, io.TeeReader(in, bar))
			bar.Done()
			if err != nil {
				return err
			}
			err = terminal.Emit(a, []api.Imported{done}, true, func() {
				fmt.Fprintf(a.Out, "%s read: %s stored, %s stored before, %s too old, %s erased before, %s rejected.\n", terminal.Visits(int64(done.Read)), terminal.Thousands(int64(done.Stored)),
					terminal.Thousands(int64(done.Duplicate)), terminal.Thousands(int64(done.Expired)), terminal.Thousands(int64(done.Erased)), terminal.Thousands(int64(done.Rejected)))
				for _, r := range done.Rejects {
					fmt.Fprintf(a.Out, "  line %d: %s\n", r.Line, r.Reason)
				}
			})
			if err == nil && done.Rejected > 0 {
				err = fmt.Errorf("rejected: %s", terminal.Visits(done.Rejected))
			}
			return err
		},
	}
	cmd.Flags().StringVar(&format, "format", "", "csv, ndjson, geojson or parquet; by default as the file's name ends")
	return cmd
}

func visitsEraseCommand(a *terminal.App) *cobra.Command {
	given := map[string]*string{}
	cmd := &cobra.Command{
		Use:   "erase",
		Short: "Erase a visit, or all of an address or prefix",
		Long: `Erases rows, what counts them, and what is in quarantine. What still waits to be
stored, here or at another service, is dropped when it arrives. Where a site keeps
truncated addresses, one visitor's cannot be told from a neighbour's: give a prefix,
which all of them share, or the id of the visit. It cannot be undone.`,
		Example: "  eastporch visits erase --address 198.18.3.40\n  eastporch visits erase --id 01a1d8a4-2b00-7146-b68e-405649734a51",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			by, n := "", 0
			for name, value := range given {
				if *value != "" {
					by, n = name, n+1
				}
			}
			if n != 1 {
				return terminal.Usage(errors.New("give one of --id, --address and --prefix"))
			}
			c, err := a.Client()
			if err != nil {
				return err
			}
			r, err := c.Erase(cmd.Context(), by, *given[by])
			if err != nil {
				return err
			}
			return terminal.Emit(a, []api.Receipt{r}, true, func() {
				fmt.Fprintf(a.Out, "Erased at %s: %s, and %d in quarantine. Counts were made anew of %s.\n", r.Time.Format(time.RFC3339), terminal.Visits(int64(r.Visits)), r.Quarantine, terminal.Count(r.Days, "day"))
				if len(r.Left) > 0 {
					fmt.Fprintf(a.Out, "Of %s no visit was erased: truncated addresses are not told apart. Give --prefix or --id.\n", strings.Join(r.Left, ", "))
				}
			})
		},
	}
	for name, usage := range map[string]string{"id": "the id of a visit", "address": "an address", "prefix": "a prefix, such as 198.18.3.0/24"} {
		given[name] = cmd.Flags().String(name, "", usage)
	}
	return cmd
}

func visitsVerifyCommand(a *terminal.App) *cobra.Command {
	var site string
	var mend bool
	cmd := &cobra.Command{
		Use:     "verify",
		Short:   "Check the counts against the stored visits",
		Long:    "Recounts every day that rows are kept of. The exit code is 1 where a count differs,\nunless --mend puts it right.",
		Example: "  eastporch visits verify\n  eastporch visits verify --mend",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			if site == "" {
				sites, err := c.Sites(cmd.Context())
				if err != nil {
					return err
				}
				if len(sites) == 0 {
					return errors.New("the service has no site")
				}
				site = sites[0].Host
			}
			days, err := c.Verify(cmd.Context(), site, "", false)
			if err != nil {
				return err
			}
			bar := a.NewBar(int64(len(days.Days)), "Recounting", false)
			var differs []visit.CountMismatch
			rows := int64(0)
			for _, day := range days.Days {
				one, err := c.Verify(cmd.Context(), site, day, mend)
				if err != nil {
					bar.Done()
					return err
				}
				differs, rows = append(differs, one.Differs...), rows+one.Rows
				bar.Step()
			}
			bar.Done()
			err = terminal.Emit(a, differs, false, func() {
				if len(differs) > 0 {
					t := terminal.NewTable(a.Out, table.Row{"Day or quarter hour", "Counted by", "Key", "Count", "Rows"}, "Count", "Rows")
					for _, d := range differs {
						t.AppendRow(table.Row{d.Slot.UTC().Format("2006-01-02 15:04"), d.Dimension, terminal.Shorten(strings.ReplaceAll(d.Key, "\x1f", " "), 40), terminal.Thousands(d.Counted), terminal.Thousands(d.Rows)})
					}
					t.Render()
					fmt.Fprintln(a.Out)
				}
				fmt.Fprintf(a.Out, "Recounted: %s of %s; %s differently.\n", terminal.Count(rows, "row"), terminal.Count(len(days.Days), "day"), terminal.Count(len(differs), "count"))
			})
			if err == nil && len(differs) > 0 && !mend {
				err = fmt.Errorf("%d counts differ; eastporch visits verify --mend puts them right", len(differs))
			}
			return err
		},
	}
	cmd.Flags().StringVar(&site, "site", "", "the host of the site; the first configured one by default")
	cmd.Flags().BoolVar(&mend, "mend", false, "put counts that differ right")
	return cmd
}

func visitsQuarantineCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{Use: "quarantine", Short: "Visits that could not be stored"}
	var limit int
	list := &cobra.Command{
		Use: "list", Short: "List the visits in quarantine, with the reasons", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			visits, all, err := c.Quarantine(cmd.Context(), limit)
			if err != nil {
				return err
			}
			return terminal.Emit(a, visits, false, func() {
				if all == 0 {
					fmt.Fprintln(a.Out, "None is in quarantine.")
					return
				}
				t := terminal.NewTable(a.Out, table.Row{"Id", "Since", "Path", "Reason"})
				for _, v := range visits {
					path := "unreadable"
					if v.Row != nil {
						path = v.Row.Path
					}
					t.AppendRow(table.Row{v.ID, v.Time.Format(time.DateTime), terminal.Shorten(path, 24), terminal.Shorten(v.Reason, 60)})
				}
				t.Render()
				fmt.Fprintf(a.Out, "\n%d of %d.\n", len(visits), all)
			})
		},
	}
	list.Flags().IntVar(&limit, "limit", 50, "how many at the most")
	mend := map[string]*string{}
	replay := &cobra.Command{
		Use: "replay ID", Short: "Correct a visit in quarantine, and store it", Args: cobra.ExactArgs(1),
		Example: "  eastporch visits quarantine replay 01a1d8a4-2b00-7146-b68e-405649734a51 --path /programme",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			body := map[string]string{}
			for name, value := range mend {
				if cmd.Flags().Changed(strings.ReplaceAll(name, "_", "-")) {
					body[strings.TrimPrefix(name, "new-")] = *value
				}
			}
			stored, err := c.Replay(cmd.Context(), args[0], body)
			if err == nil && !stored {
				a.Note("It was stored before, or erased; it left quarantine.")
			} else if err == nil {
				a.Note("It is stored.")
			}
			return err
		},
	}
	for _, name := range []string{"new-id", "site", "path", "referrer", "user_agent", "link"} {
		mend[name] = replay.Flags().String(strings.ReplaceAll(name, "_", "-"), "", "put this in its place")
	}
	drop := &cobra.Command{
		Use: "drop ID", Short: "Delete a visit from quarantine", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			return c.DropApart(cmd.Context(), args[0])
		},
	}
	cmd.AddCommand(list, replay, drop)
	return cmd
}
