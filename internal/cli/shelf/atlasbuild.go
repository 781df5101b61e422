package shelf

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/config"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/editions"
	editionfile "eastporch/internal/files/edition"
	"eastporch/internal/server"
)

func atlasDescribeCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "describe FILE",
		Short: "Show the format and columns of a file of range data",
		Long: `Looks at a file, plain or packed with gzip, bzip2 or zstd: its format, its columns and
what they hold, some rows of different countries, and how its columns would be
mapped. Nothing is loaded.`,
		Example: `  eastporch atlas describe alder-networks.csv
  eastporch atlas describe ranges.parquet --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := editions.Describe(args[0])
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			return terminal.Emit(a, []*source.Description{d}, true, func() { drawDescription(a, args[0], d) })
		},
	}
}

// AsSource looks at a file of range data, shows what it holds, and gives it as a first
// configuration has it: a list is labelled by the file's name. The error says why the file would
// locate nothing.
func AsSource(a *terminal.App, file string) (*config.FirstSource, error) {
	d, err := editions.Describe(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	at, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	s := &config.FirstSource{Name: filepath.Base(file), File: at, Format: string(d.Format)}
	for _, fact := range source.Columns {
		if name := d.Mapping[fact]; name != "" {
			s.Columns = append(s.Columns, [2]string{fact, name})
		}
	}
	drawColumns(a, file, d)
	if err := lacking(file, d); err != nil {
		fmt.Fprintln(a.Out)
		return nil, err
	}
	switch d.Format {
	case source.RPSL:
		fmt.Fprintln(a.Out, "\nIt says where ranges are registered, which need not be where they are.")
	case source.MRT:
		fmt.Fprintln(a.Out, "\nIt says whose networks are, and locates none: it goes with range data that does.")
	}
	if d.Format == source.List {
		s.Label = strings.TrimSuffix(s.Name, filepath.Ext(s.Name))
		fmt.Fprintf(a.Out, "\nIts addresses get the label %s. A list locates none: it goes with range data that does.\n", s.Label)
	} else {
		drawAdvice(a, d)
	}
	fmt.Fprintln(a.Out)
	return s, nil
}

// CheckSource says why a file is no source; "" is none, and right.
func CheckSource(file string) error {
	if file == "" {
		return nil
	}
	d, err := editions.Describe(file)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	return lacking(file, d)
}

func lacking(file string, d *source.Description) error {
	lacks := d.Lacks()
	if len(lacks) == 0 {
		return nil
	}
	return fmt.Errorf("%s: %s Mend the file, or name its columns under atlas.sources: docs/range-data.md", file, strings.Join(lacks, " "))
}

// drawDescription shows what a file holds, and how it is loaded.
func drawDescription(a *terminal.App, file string, d *source.Description) {
	drawColumns(a, file, d)
	drawAdvice(a, d)
	if len(d.Mapping) > 0 {
		var pairs []string
		for _, fact := range source.Columns {
			if name := d.Mapping[fact]; name != "" {
				pairs = append(pairs, fact+": "+name)
			}
		}
		fmt.Fprintf(a.Out, "\nTo load it, under atlas.sources of the configuration:\n  - name: %s\n    file: %s\n    format: %s\n    rank: 1\n    columns: { %s }\n",
			filepath.Base(file), file, d.Format, strings.Join(pairs, ", "))
	}
}

func drawAdvice(a *terminal.App, d *source.Description) {
	for _, line := range d.Advice {
		fmt.Fprintf(a.Out, "\n%s\n", line)
	}
}

// drawColumns shows the columns of a file and some of its rows.
func drawColumns(a *terminal.App, file string, d *source.Description) {
	fmt.Fprintf(a.Out, "%s looks like %s: %s.\n\n", filepath.Base(file), d.Format, d.Reason)
	if len(d.Columns) == 0 {
		return
	}
	t := terminal.NewTable(a.Out, table.Row{"Column", "Holds", "Filled", "Such as", "For"}, "Filled")
	for _, c := range d.Columns {
		fact := c.Fact
		if fact == "" {
			fact = "–"
		}
		t.AppendRow(table.Row{c.Name, c.Type, fmt.Sprintf("%.0f %%", 100*c.Filled), terminal.Cut(strings.Join(c.Values, ", "), 44), fact})
	}
	t.Render()
	if odd := unread(d); len(odd) > 0 {
		fmt.Fprintf(a.Out, "\nNot understood, and not read: %s. If one holds a fact, name it under columns: docs/range-data.md\n", strings.Join(odd, ", "))
	}
	if len(d.Sample) > 0 {
		fmt.Fprintf(a.Out, "\nRows of different countries, among the first %s:\n", terminal.Thousands(d.Rows))
		for _, row := range d.Sample {
			fmt.Fprintf(a.Out, "  %s\n", terminal.Cut(strings.Join(row, "  "), 100))
		}
	}
}

// unread are the columns that no fact is read from.
func unread(d *source.Description) (names []string) {
	for _, c := range d.Columns {
		if c.Fact == "" {
			names = append(names, c.Name)
		}
	}
	return names
}

func atlasBuildCommand(a *terminal.App) *cobra.Command {
	var out, rejects, file string
	cmd := &cobra.Command{
		Use:   "build [FILE…]",
		Short: "Build an edition file from sources",
		Long: `Reads sources, several at a time and with all processors, and writes an edition:
the files given, in the order of their rank and read as describe says, or with
--config the sources of a configuration. Bad rows do not stop it: the report
counts them by reason, and --rejects names the file that gets all of them. More
than half of the rows bad stop it, and so does a source that cannot be read; an
edition that stood there before stays then.`,
		Example: `  eastporch atlas build harbour-net.csv registry-statistics.txt --out atlas.edition
  eastporch atlas build --config eastporch.yaml --out atlas.edition --rejects rejects.jsonl
  eastporch resolve --atlas atlas.edition 198.18.3.40 --open 198.18.0.0/15`,
		RunE: func(cmd *cobra.Command, args []string) error {
			sources, fetcher, err := buildSources(a, file, args)
			if err != nil {
				return err
			}
			bar := a.BuildBar(sources)
			built, err := editions.Build(cmd.Context(), sources, editions.BuildOptions{Fetcher: fetcher, Rejects: rejects, Progress: bar.Progress})
			bar.Done()
			if err != nil {
				return err
			}
			begin, report := time.Now(), built.Report
			if err := editionfile.Write(built.Atlas, out); err != nil {
				return err
			}
			report.Seconds += time.Since(begin).Seconds()
			if info, err := os.Stat(out); err == nil {
				report.Bytes = info.Size()
			}
			return terminal.Emit(a, []*editions.BuildReport{report}, true, func() { drawReport(a, out, report) })
		},
	}
	cmd.Flags().StringVar(&out, "out", "atlas.edition", "the edition file to write")
	cmd.Flags().StringVar(&rejects, "rejects", "", "write all rejects and remarks here, as lines of JSON")
	cmd.Flags().StringVar(&file, "config", "", "the configuration whose sources are read")
	return cmd
}

func buildSources(a *terminal.App, file string, args []string) ([]editions.SourceConfig, *editions.Fetcher, error) {
	if (file == "") == (len(args) == 0) {
		return nil, nil, terminal.Usage(errors.New("give files, or --config with the sources of a configuration"))
	}
	if file != "" {
		in := config.Input{File: file, Getenv: a.Getenv}
		cfg, err := config.Load(in)
		if err != nil {
			return nil, nil, err
		}
		sources, fetcher := server.Sources(cfg, in)
		if len(sources) == 0 {
			return nil, nil, fmt.Errorf("%s names no sources under atlas.sources", file)
		}
		return sources, fetcher, nil
	}
	var sources []editions.SourceConfig
	for i, arg := range args {
		s, err := terminal.Described(arg, i+1)
		if err != nil {
			return nil, nil, err
		}
		sources = append(sources, s)
	}
	return sources, &editions.Fetcher{}, nil
}

func drawReport(a *terminal.App, out string, r *editions.BuildReport) {
	fmt.Fprintf(a.Out, "%s  edition %s, %.1f MB, in %.1f s, %d MB of memory at the peak\n\n", out, r.Edition, float64(r.Bytes)/1e6, r.Seconds, r.PeakMB)
	t := terminal.NewTable(a.Out, table.Row{"Rank", "Source", "Basis", "Rows", "Accepted", "Rejected", "Nested", "IPv4 addresses", "IPv6 /48s"},
		"Rank", "Rows", "Accepted", "Rejected", "Nested", "IPv4 addresses", "IPv6 /48s")
	for _, s := range r.Sources {
		t.AppendRow(table.Row{s.Rank, s.Name, s.Basis, terminal.Thousands(s.Rows), terminal.Thousands(s.Accepted), terminal.Thousands(s.Rejected), terminal.Thousands(s.Nested), terminal.Amount(s.Covered.IPv4), terminal.Amount(s.Covered.IPv6)})
	}
	t.Render()
	for _, s := range r.Sources {
		for _, k := range []struct {
			what string
			list []editions.Reason
		}{{"rejected", s.RejectReasons}, {"remarked", s.RemarkReasons}} {
			for _, reason := range k.list {
				fmt.Fprintf(a.Out, "\n%s, %s %s: %s\n", s.Name, terminal.Thousands(reason.Count), k.what, reason.Reason)
				t := terminal.NewTable(a.Out, nil)
				for _, n := range reason.First {
					t.AppendRow(table.Row{fmt.Sprintf("  line %d", n.Line), terminal.Cut(n.Text, 60), n.Reason})
				}
				t.Render()
			}
		}
	}
	if len(r.Overlaps) > 0 {
		fmt.Fprintln(a.Out)
		t := terminal.NewTable(a.Out, table.Row{"Both say something of", "IPv4 addresses", "IPv6 /48s", "Same country"}, "IPv4 addresses", "IPv6 /48s", "Same country")
		for _, o := range r.Overlaps {
			t.AppendRow(table.Row{o.First + " and " + o.Second, terminal.Amount(o.IPv4), terminal.Amount(o.IPv6), terminal.Share(o.Agree)})
		}
		t.Render()
	}
	if r.Rejects != "" {
		fmt.Fprintf(a.Out, "\nAll rejects and remarks are in %s.\n", r.Rejects)
	}
}

func atlasRefreshCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "refresh",
		Short: "Build an edition from the service's sources, as they are now",
		Long: `Has the service read its configured sources again and build an edition of them,
and waits until it is built. The edition is activated where the configuration says
so (atlas.activate: auto), else atlas activate does it. A source that cannot be read
stays as it was: that is said, and so is an edition that covers less than the one in
use; both end with status 1. Ctrl-C ends the waiting, not the build.`,
		Example: `  eastporch atlas refresh
  eastporch atlas list`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			ctx := cmd.Context()
			if err := c.BuildEdition(ctx); err != nil {
				return err
			}
			job, err := awaitBuild(a, ctx, c)
			if err != nil {
				return err
			}
			if job.Edition == "" {
				return fmt.Errorf("no edition was built: %s", job.Failed)
			}
			list, _, err := c.Editions(ctx)
			if err != nil {
				return err
			}
			for _, e := range list {
				if e.Name == job.Edition {
					fmt.Fprintf(a.Out, "Edition %s is built; it is %s.\n", e.Name, e.State)
				}
			}
			if job.Failed != "" {
				return errors.New(job.Failed)
			}
			return nil
		},
	}
}

// awaitBuild waits until no build runs, and gives the last.
func awaitBuild(a *terminal.App, ctx context.Context, c *client.Client) (api.Job, error) {
	progress := a.NewBar(-1, "Building", false)
	defer progress.Done()
	ticker := time.NewTicker(buildPoll)
	defer ticker.Stop()
	for {
		_, job, err := c.Editions(ctx)
		if err != nil || !job.Running {
			return job, err
		}
		progress.Progress("", job.Doing, 0, 0)
		select {
		case <-ctx.Done():
			return job, ctx.Err()
		case <-ticker.C:
		}
	}
}
