package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/client"
	"eastporch/internal/config"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compare"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/editionfile"
	"eastporch/internal/editions"
	"eastporch/internal/server"
)

func (a *app) atlas() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "atlas",
		Short: "Build, inspect, compare and activate editions of range data",
		Long: `An atlas is all sources of range data compiled into one file, an edition, which
is used in place. These commands look at sources, build editions, and compare
them; with --atlas FILE they work offline, else they ask the service.`,
	}
	cmd.AddCommand(a.atlasDescribe(), a.atlasBuild(), a.atlasRefresh(), a.atlasShow(), a.atlasList(), a.atlasSample(), a.atlasDiff(), a.atlasAccuracy(),
		a.atlasExport(), a.atlasActivate(), a.atlasBack(), a.atlasPublish())
	return cmd
}

// openAtlas opens an edition file, or reads a source into an edition of its own:
// what the file is is seen from its contents.
func (a *app) openAtlas(file string) (*atlas.Atlas, error) {
	edition, err := editionfile.Open(file)
	if err == nil || !errors.Is(err, atlas.ErrEdition) || beginsAsEdition(file) {
		return edition, err
	}
	source, err := described(file, 1)
	if err != nil {
		return nil, err
	}
	edition, report, _, err := editions.Build(context.Background(), []editions.SourceConfig{source}, editions.BuildOptions{Fetcher: &editions.Fetcher{}})
	if err != nil {
		return nil, err
	}
	for _, s := range report.Sources {
		for _, r := range append(s.RejectReasons, s.RemarkReasons...) {
			for _, n := range r.First {
				a.noteln(fmt.Sprintf("%s line %d: %s", file, n.Line, n.Reason))
			}
			if more := r.Count - len(r.First); more > 0 {
				a.noteln(fmt.Sprintf("%s: and %d more like these", file, more))
			}
		}
	}
	return edition, nil
}

func beginsAsEdition(file string) bool {
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	b := make([]byte, 16)
	_, err = io.ReadFull(f, b)
	return err == nil && string(b) == "EAST PORCH ATLAS"
}

// described makes a source of a file by what is in it.
func described(file string, rank int) (editions.SourceConfig, error) {
	d, err := editions.Describe(file)
	if err != nil {
		return editions.SourceConfig{}, fmt.Errorf("%s: %w", file, err)
	}
	path, err := filepath.Abs(file)
	if err != nil {
		return editions.SourceConfig{}, err
	}
	name := filepath.Base(file)
	return editions.SourceConfig{
		About:        atlas.About{Name: name, Rank: rank},
		ParseOptions: source.ParseOptions{Format: d.Format, Columns: d.Mapping, Label: strings.TrimSuffix(name, filepath.Ext(name))}, Location: path,
	}, nil
}

func (a *app) atlasDescribe() *cobra.Command {
	return &cobra.Command{
		Use:   "describe FILE",
		Short: "Show the format and columns of a file of range data",
		Long: `Looks at a file, plain or packed with gzip or zstd: its format, its columns and
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
			return emit(a, []*source.Description{d}, true, func() { a.drawDescription(args[0], d) })
		},
	}
}

func (a *app) drawDescription(file string, d *source.Description) {
	fmt.Fprintf(a.Out, "%s looks like %s: %s.\n\n", filepath.Base(file), d.Format, d.Reason)
	t := newTable(a.Out, table.Row{"Column", "Holds", "Filled", "Such as", "For"}, "Filled")
	for _, c := range d.Columns {
		fact := c.Fact
		if fact == "" {
			fact = "–"
		}
		t.AppendRow(table.Row{c.Name, c.Type, fmt.Sprintf("%.0f %%", 100*c.Filled), cut(strings.Join(c.Values, ", "), 44), fact})
	}
	t.Render()
	if len(d.Sample) > 0 {
		fmt.Fprintf(a.Out, "\nRows of different countries, among the first %s:\n", thousands(d.Rows))
		for _, row := range d.Sample {
			fmt.Fprintf(a.Out, "  %s\n", cut(strings.Join(row, "  "), 100))
		}
	}
	for _, line := range d.Advice {
		fmt.Fprintf(a.Out, "\n%s\n", line)
	}
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

func cut(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}

// thousands writes a count with commas.
func thousands[N int | int64](n N) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func (a *app) atlasBuild() *cobra.Command {
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
			sources, fetcher, err := a.buildSources(file, args)
			if err != nil {
				return err
			}
			bar := a.buildBar(sources)
			edition, report, _, err := editions.Build(cmd.Context(), sources, editions.BuildOptions{Fetcher: fetcher, Rejects: rejects, Progress: bar.progress})
			bar.done()
			if err != nil {
				return err
			}
			begin := time.Now()
			if err := editionfile.Write(edition, out); err != nil {
				return err
			}
			report.Seconds += time.Since(begin).Seconds()
			if info, err := os.Stat(out); err == nil {
				report.Bytes = info.Size()
			}
			return emit(a, []*editions.BuildReport{report}, true, func() { a.drawReport(out, report) })
		},
	}
	cmd.Flags().StringVar(&out, "out", "atlas.edition", "the edition file to write")
	cmd.Flags().StringVar(&rejects, "rejects", "", "write all rejects and remarks here, as lines of JSON")
	cmd.Flags().StringVar(&file, "config", "", "the configuration whose sources are read")
	return cmd
}

func (a *app) buildSources(file string, args []string) ([]editions.SourceConfig, *editions.Fetcher, error) {
	if (file == "") == (len(args) == 0) {
		return nil, nil, usageError{errors.New("give files, or --config with the sources of a configuration")}
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
		s, err := described(arg, i+1)
		if err != nil {
			return nil, nil, err
		}
		sources = append(sources, s)
	}
	return sources, &editions.Fetcher{}, nil
}

func (a *app) drawReport(out string, r *editions.BuildReport) {
	fmt.Fprintf(a.Out, "%s  edition %s, %.1f MB, in %.1f s, %d MB of memory at the peak\n\n", out, r.Edition, float64(r.Bytes)/1e6, r.Seconds, r.PeakMB)
	t := newTable(a.Out, table.Row{"Rank", "Source", "Basis", "Rows", "Accepted", "Rejected", "Nested", "IPv4 addresses", "IPv6 /48s"},
		"Rank", "Rows", "Accepted", "Rejected", "Nested", "IPv4 addresses", "IPv6 /48s")
	for _, s := range r.Sources {
		t.AppendRow(table.Row{s.Rank, s.Name, s.Basis, thousands(s.Rows), thousands(s.Accepted), thousands(s.Rejected), thousands(s.Nested), amount(s.Covered.IPv4), amount(s.Covered.IPv6)})
	}
	t.Render()
	for _, s := range r.Sources {
		for _, k := range []struct {
			what string
			list []editions.Reason
		}{{"rejected", s.RejectReasons}, {"remarked", s.RemarkReasons}} {
			for _, reason := range k.list {
				fmt.Fprintf(a.Out, "\n%s, %s %s: %s\n", s.Name, thousands(reason.Count), k.what, reason.Reason)
				t := newTable(a.Out, nil)
				for _, n := range reason.First {
					t.AppendRow(table.Row{fmt.Sprintf("  line %d", n.Line), cut(n.Text, 60), n.Reason})
				}
				t.Render()
			}
		}
	}
	if len(r.Overlaps) > 0 {
		fmt.Fprintln(a.Out)
		t := newTable(a.Out, table.Row{"Both say something of", "IPv4 addresses", "IPv6 /48s", "Same country"}, "IPv4 addresses", "IPv6 /48s", "Same country")
		for _, o := range r.Overlaps {
			t.AppendRow(table.Row{o.First + " and " + o.Second, amount(o.IPv4), amount(o.IPv6), share(o.Agree)})
		}
		t.Render()
	}
	if r.Rejects != "" {
		fmt.Fprintf(a.Out, "\nAll rejects and remarks are in %s.\n", r.Rejects)
	}
}

// amount writes a count of addresses.
func amount(v float64) string {
	switch {
	case v == 0:
		return "–"
	case v < 1:
		return "<1"
	case v >= 1e9:
		return fmt.Sprintf("%.2f billion", v/1e9)
	case v >= 1e6:
		return fmt.Sprintf("%.2f million", v/1e6)
	}
	return thousands(int64(v))
}

func (a *app) atlasShow() *cobra.Command {
	var verify bool
	cmd := &cobra.Command{
		Use:   "show FILE",
		Short: "Show the sources, dates and coverage of an edition file",
		Example: `  eastporch atlas show atlas.edition
  eastporch atlas show atlas.edition --output yaml`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			edition, err := a.openAtlas(args[0])
			if err != nil {
				return err
			}
			checked := ""
			if verify {
				if err := edition.Verify(); err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				checked = "checksums hold"
			}
			coverage := compare.Cover(edition)
			view := showView{Name: edition.Name(), Built: edition.Built(), Coverage: coverage, Credits: edition.Credits(), Checked: checked}
			for _, s := range edition.Sources() {
				view.Sources = append(view.Sources, showSource{s.About, s.Counts})
			}
			return emit(a, []showView{view}, true, func() { a.drawShow(view) })
		},
	}
	cmd.Flags().BoolVar(&verify, "verify", true, "compare the checksums")
	return cmd
}

type showView struct {
	Name     string         `json:"name"`
	Built    time.Time      `json:"built"`
	Checked  string         `json:"checked"`
	Sources  []showSource   `json:"sources"`
	Coverage atlas.Coverage `json:"coverage"`
	Credits  []string       `json:"credits"`
}

type showSource struct {
	atlas.About
	atlas.Counts
}

func (a *app) drawShow(v showView) {
	fmt.Fprintf(a.Out, "%s\n\n", join(", ", "Edition "+v.Name, "built "+v.Built.Format(time.RFC3339), v.Checked))
	t := newTable(a.Out, table.Row{"Rank", "Source", "Basis", "Dated", "IPv4 ranges", "IPv6 ranges", "Licence, credit"}, "Rank", "IPv4 ranges", "IPv6 ranges")
	for _, s := range v.Sources {
		t.AppendRow(table.Row{s.Rank, s.Name, s.Basis, s.Dated, thousands(s.Ranges4), thousands(s.Ranges6), join(" · ", s.Licence, s.Credit)})
	}
	t.Render()
	total := v.Coverage.Total()
	fmt.Fprintf(a.Out, "\nIt locates %s addresses of IPv4 and %s /48s of IPv6.\n\n", amount(total.IPv4), amount(total.IPv6))
	t = newTable(a.Out, table.Row{"Country", "IPv4 addresses", "with a town", "IPv6 /48s", "with a town"}, "IPv4 addresses", "with a town", "IPv6 /48s")
	codes := []string{}
	for code := range v.Coverage.Countries {
		codes = append(codes, code)
	}
	slices.SortFunc(codes, func(x, y string) int {
		p, q := v.Coverage.Countries[x], v.Coverage.Countries[y]
		if p.IPv4+p.IPv6 != q.IPv4+q.IPv6 {
			return map[bool]int{true: -1, false: 1}[p.IPv4+p.IPv6 > q.IPv4+q.IPv6]
		}
		return strings.Compare(x, y)
	})
	for i, code := range codes {
		if i == 15 {
			t.AppendRow(table.Row{fmt.Sprintf("and %d more", len(codes)-i)})
			break
		}
		c, name := v.Coverage.Countries[code], code
		if known, ok := almanac.ByCode(code); ok {
			name = known.Name + " " + code
		}
		t.AppendRow(table.Row{name, amount(c.IPv4), percent(c.IPv4City, c.IPv4), amount(c.IPv6), percent(c.IPv6City, c.IPv6)})
	}
	t.Render()
}

func percent(part, whole float64) string {
	if whole == 0 {
		return "–"
	}
	return fmt.Sprintf("%.0f %%", 100*part/whole)
}

func (a *app) atlasList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the editions of the service, the newest first",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, job, err := c.Editions(cmd.Context())
			if err != nil {
				return err
			}
			return emit(a, list, false, func() {
				t := newTable(a.Out, table.Row{"Edition", "State", "Built", "IPv4 ranges", "IPv6 ranges", "MB"}, "IPv4 ranges", "IPv6 ranges", "MB")
				for _, e := range list {
					t.AppendRow(table.Row{e.Name, join(", ", e.State, e.Unusable), e.Built.Format(time.DateTime), thousands(e.Ranges4), thousands(e.Ranges6), fmt.Sprintf("%.1f", float64(e.Bytes)/1e6)})
				}
				t.Render()
				if job.Running {
					fmt.Fprintf(a.Out, "\nAnother is being built: %s.\n", job.Doing)
				} else if job.Failed != "" {
					fmt.Fprintf(a.Out, "\nThe last build: %s.\n", job.Failed)
				}
			})
		},
	}
}

func (a *app) atlasSample() *cobra.Command {
	var file, city string
	var count int
	var seed uint64
	cmd := &cobra.Command{
		Use:   "sample COUNTRY",
		Short: "Print sample addresses of a country or town",
		Example: `  eastporch atlas sample PT --city Lisbon --count 5
  eastporch atlas sample NO --atlas atlas.edition --seed 7`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			country := strings.ToUpper(args[0])
			if err := almanac.CheckCode(country); err != nil {
				return usageError{err}
			}
			if count < 1 || count > 1000 {
				return usageError{errors.New("--count: give 1 to 1000")}
			}
			var list []string
			if file != "" {
				edition, err := a.openAtlas(file)
				if err != nil {
					return err
				}
				for _, ip := range edition.Sample(country, city, count, seed) {
					list = append(list, ip.String())
				}
			} else {
				c, err := a.client()
				if err != nil {
					return err
				}
				if list, err = c.Samples(cmd.Context(), country, city, count, seed); err != nil {
					return err
				}
			}
			if len(list) == 0 {
				return fmt.Errorf("the edition puts no address into %s", join(", ", city, country))
			}
			return emit(a, list, false, func() {
				for _, s := range list {
					fmt.Fprintln(a.Out, s)
				}
			})
		},
	}
	cmd.Flags().StringVar(&file, "atlas", "", "work offline on this edition or source")
	cmd.Flags().StringVar(&city, "city", "", "only of this town")
	cmd.Flags().IntVar(&count, "count", 10, "how many")
	cmd.Flags().Uint64Var(&seed, "seed", 1, "another seed gives other addresses")
	return cmd
}

func (a *app) atlasDiff() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "diff THEN | NOW THEN",
		Short: "Compare two editions",
		Long: `With two files, offline: how many ranges and addresses of the first read
differently in the second, how far they move, and the largest of them. With the
name of an edition of the service: the same against the edition in use, and which
visits of the last 30 days would read differently.`,
		Example: `  eastporch atlas diff october.edition november.edition
  eastporch atlas diff 2026-11-14-c81e90b7`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			var changes api.Changes
			if _, err := os.Stat(args[len(args)-1]); len(args) == 2 && err == nil {
				now, err := a.openAtlas(args[0])
				if err != nil {
					return err
				}
				then, err := a.openAtlas(args[1])
				if err != nil {
					return err
				}
				bar := a.shareBar("Comparing")
				changes.Changes = compare.Diff(now, then, func(share float64) bool {
					bar.share(share)
					return cmd.Context().Err() == nil
				})
				bar.done()
				if err := cmd.Context().Err(); err != nil {
					return err
				}
			} else {
				c, err := a.client()
				if err != nil {
					return err
				}
				now := ""
				if len(args) == 2 {
					now = args[0]
				}
				if changes, err = c.Changes(cmd.Context(), now, args[len(args)-1]); err != nil {
					return err
				}
			}
			return emit(a, []api.Changes{changes}, true, func() { a.drawChanges(changes) })
		},
	}
	return cmd
}

func (a *app) drawChanges(c api.Changes) {
	if c.Ranges == 0 {
		fmt.Fprintf(a.Out, "%s and %s say the same everywhere.\n", c.Now, c.Then)
		return
	}
	fmt.Fprintf(a.Out, "From %s to %s, %s ranges would read differently: %s of the located IPv4 addresses, %s of IPv6.\n",
		c.Now, c.Then, thousands(c.Ranges), fine(c.Share4), fine(c.Share6))
	if v := c.Visits; v.Days > 0 { // of a service
		fmt.Fprintf(a.Out, "Of the %s visits of the last %d days, %s would, from %s addresses.\n", thousands(v.Visits), v.Days, thousands(v.Differently.Visits), thousands(v.Differently.Addresses))
	}
	if c.Km.P50 != nil {
		fmt.Fprintf(a.Out, "Half of the ranges move by less than %.0f km, nine in ten by less than %.0f km.\n", *c.Km.P50, *c.Km.P90)
	}
	fmt.Fprintln(a.Out)
	t := newTable(a.Out, table.Row{"Another", "Ranges", "IPv4 addresses", "IPv6 /48s"}, "Ranges", "IPv4 addresses", "IPv6 /48s")
	for _, d := range compare.ChangeKinds {
		if n := c.Counts[d]; n.Ranges > 0 {
			t.AppendRow(table.Row{map[compare.ChangeKind]string{compare.Moved: "point"}[d] + strings.TrimPrefix(string(d), "moved"), thousands(n.Ranges), amount(n.IPv4), amount(n.IPv6)})
		}
	}
	t.Render()
	fmt.Fprintln(a.Out)
	t = newTable(a.Out, table.Row{"Largest", "Now", "Then", "Moves"}, "Moves")
	for _, l := range c.Largest[:min(len(c.Largest), 20)] {
		km := ""
		if l.Km != nil {
			km = fmt.Sprintf("%.0f km", *l.Km)
		}
		t.AppendRow(table.Row{l.Range, l.Now, l.Then, km})
	}
	t.Render()
}

// fine writes a share that may be very small.
func fine(v float64) string {
	if v > 0 && v < 0.0001 {
		return "less than 0.01 %"
	}
	return number(float64(int(v*10000+.5))/100) + " %"
}

func (a *app) atlasExport() *cobra.Command {
	var file, format string
	var raw bool
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Export an edition as one merged table, or as a geofeed",
		Long: `Writes an edition as one merged table, or as a geofeed. Texts that a spreadsheet
would take for formulas get an apostrophe in front, unless --raw. It exits with 1
where it breaks off: what was written until then is not whole.`,
		Example: `  eastporch atlas export --atlas atlas.edition > merged.csv
  eastporch atlas export --format geofeed > feed.csv`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if format != string(source.CSV) && format != string(source.Geofeed) {
				return usageError{fmt.Errorf("--format %s is not known: give csv or geofeed", format)}
			}
			if file == "" {
				c, err := a.client()
				if err != nil {
					return err
				}
				return c.ExportEdition(cmd.Context(), format, raw, a.Out)
			}
			edition, err := a.openAtlas(file)
			if err != nil {
				return err
			}
			bar := a.shareBar("Exporting")
			defer bar.done()
			return source.Export(edition, a.Out, source.Format(format), raw, bar.share)
		},
	}
	cmd.Flags().StringVar(&file, "atlas", "", "work offline on this edition or source")
	cmd.Flags().StringVar(&format, "format", "csv", "csv, with every fact, or geofeed")
	cmd.Flags().BoolVar(&raw, "raw", false, "leave texts that look like formulas as they are")
	return cmd
}

func (a *app) atlasRefresh() *cobra.Command {
	return &cobra.Command{
		Use:   "refresh",
		Short: "Build an edition from the service's sources, as they are now",
		Long: `Has the service read its configured sources again and build an edition of them,
and waits until it is built. The edition is activated where the configuration says
so (atlas.activate: auto), else atlas activate does it. Ctrl-C ends the waiting,
not the build.`,
		Example: `  eastporch atlas refresh
  eastporch atlas list`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ctx := cmd.Context()
			if err := c.BuildEdition(ctx); err != nil {
				return err
			}
			job, err := a.awaitBuild(ctx, c)
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
				a.noteln(job.Failed)
			}
			return nil
		},
	}
}

// buildPoll is how often a build is looked at.
const buildPoll = 300 * time.Millisecond

// awaitBuild waits until no build runs, and gives the last.
func (a *app) awaitBuild(ctx context.Context, c *client.Client) (api.Job, error) {
	progress := a.newBar(-1, "Building", false)
	defer progress.done()
	ticker := time.NewTicker(buildPoll)
	defer ticker.Stop()
	for {
		_, job, err := c.Editions(ctx)
		if err != nil || !job.Running {
			return job, err
		}
		progress.progress("", job.Doing, 0, 0)
		select {
		case <-ctx.Done():
			return job, ctx.Err()
		case <-ticker.C:
		}
	}
}

func (a *app) atlasActivate() *cobra.Command {
	return &cobra.Command{
		Use:   "activate EDITION",
		Short: "Activate an edition on the service",
		Long: `Activates an edition of the service: from then on it answers, without a request
failing in between. atlas back goes back to the one before.`,
		Example: "  eastporch atlas activate 2026-11-19-35087e19",
		Args:    cobra.ExactArgs(1),
		RunE:    func(cmd *cobra.Command, args []string) error { return a.activate(cmd.Context(), args[0]) },
	}
}

func (a *app) atlasBack() *cobra.Command {
	return &cobra.Command{
		Use:     "back",
		Short:   "Go back to the edition that was active before",
		Example: "  eastporch atlas back",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.activate(cmd.Context(), "") },
	}
}

func (a *app) activate(ctx context.Context, name string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	active, err := c.ActivateEdition(ctx, name)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "Edition %s is in use.\n", active)
	return nil
}

func (a *app) atlasPublish() *cobra.Command {
	return &cobra.Command{
		Use:   "publish",
		Short: "Publish the edition in use to SQL, for the function locate",
		Long: `Fills a table of the service's database with every range of the edition in use, so
that the SQL function locate(inet) answers as the service does, and rows
elsewhere in the database can be enriched by a join. docs/sql.md has examples. It
takes a minute or more for millions of ranges; do it again after a new edition.`,
		Example: "  eastporch atlas publish",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			edition, ranges, err := c.Publish(cmd.Context())
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edition %s answers in SQL: %s ranges. Try SELECT * FROM locate('198.18.3.40').\n", edition, thousands(ranges))
			return nil
		},
	}
}
