package addresses

import (
	"errors"
	"fmt"
	"math"
	"os"
	"strconv"
	"strings"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/server/lookup"
)

// offlineStretches bounds how many stretches of a range are looked at offline.
const offlineStretches = 5_000_000

// RangesCommand says which places ranges span.
func RangesCommand(a *terminal.App) *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "ranges RANGE…",
		Short: "Show the places that ranges span, with shares",
		Example: `  eastporch ranges 198.18.0.0/17
  eastporch ranges 198.18.0.0-198.18.40.255 --atlas atlas.edition --output csv`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var answers []api.RangeAnswer
			for _, text := range args {
				answer, err := span(a, cmd, file, text)
				if err != nil {
					return err
				}
				answers = append(answers, answer)
			}
			return terminal.Emit(a, answers, len(args) == 1, func() {
				for i, r := range answers {
					if i > 0 {
						fmt.Fprintln(a.Out)
					}
					fmt.Fprintf(a.Out, "%s, edition %s\n", r.Range, r.Edition)
					t := terminal.NewTable(a.Out, table.Row{"Share", "Place", "Country", "Level", "Stretches", "Such as"}, "Share", "Stretches")
					for _, s := range r.Shares {
						name := s.CountryCode
						if known, ok := almanac.ByCode(s.CountryCode); ok {
							name = known.Name + " " + s.CountryCode
						}
						t.AppendRow(table.Row{terminal.Fine(s.Share.Share), terminal.Join(", ", s.City, s.RegionCode), name, s.Level, terminal.Thousands(s.Ranges), s.Example})
					}
					t.Render()
					if !r.Complete {
						fmt.Fprintf(a.Out, "Only %s was looked at, for the range is in very many pieces.\n", r.LookedAt)
					}
				}
			})
		},
	}
	cmd.Flags().StringVar(&file, "atlas", "", "work offline on this edition or source")
	return cmd
}

func span(a *terminal.App, cmd *cobra.Command, file, text string) (api.RangeAnswer, error) {
	if file == "" {
		c, err := a.Client()
		if err != nil {
			return api.RangeAnswer{}, err
		}
		return c.Range(cmd.Context(), text)
	}
	edition, err := terminal.OpenAtlas(a, file)
	if err != nil {
		return api.RangeAnswer{}, err
	}
	return lookup.RangeOf(edition, text, offlineStretches)
}

// pointOf reads a point: LATITUDE LONGITUDE, or a geo URI.
func pointOf(args []string) (geo.Point, error) {
	if len(args) == 1 {
		p, _, err := geo.ParseURI(args[0])
		return p, err
	}
	lat, err := strconv.ParseFloat(args[0], 64)
	lon, problem := strconv.ParseFloat(args[1], 64)
	p := geo.Point{Latitude: lat, Longitude: lon}
	switch {
	case errors.Join(err, problem) != nil:
		return p, fmt.Errorf("%s %s are no latitude and longitude in degrees", args[0], args[1])
	case !p.Valid() && (geo.Point{Latitude: lon, Longitude: lat}).Valid():
		return p, fmt.Errorf("latitude %s is beyond 90 degrees; are latitude and longitude swapped?", args[0])
	case !p.Valid():
		return p, fmt.Errorf("%s %s lies beyond 90 or 180 degrees", args[0], args[1])
	}
	return p, nil
}

// NearCommand lists the towns nearest to a point.
func NearCommand(a *terminal.App) *cobra.Command {
	var count, people int
	cmd := &cobra.Command{
		Use:   "near LATITUDE LONGITUDE | GEO-URI | TOWN",
		Short: "List the towns nearest to a point, or find towns by name",
		Long: `Lists the towns of 15,000 people and more that are nearest to a point. With a name in place of a point, it lists the
places that are called so in any language, the most populous first, with their
coordinates, as a correction takes them.`,
		Example: `  eastporch near 38.72 -9.14
  eastporch near geo:38.72,-9.14 --people 100000
  eastporch near Lissabon`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := pointOf(args)
			named := err != nil && len(args) == 1 && strings.IndexFunc(args[0], unicode.IsLetter) >= 0 && !strings.HasPrefix(args[0], "geo:")
			if err != nil && !named {
				return terminal.Usage(err)
			}
			if count < 1 || count > 100 {
				return terminal.Usage(errors.New("--count: give 1 to 100"))
			}
			type town struct {
				City        string  `json:"city"`
				CountryCode string  `json:"country_code"`
				RegionCode  string  `json:"region_code"`
				Latitude    float64 `json:"latitude"`
				Longitude   float64 `json:"longitude"`
				Population  int     `json:"population"`
				TimeZone    string  `json:"time_zone"`
				Km          float64 `json:"km"`
			}
			list := []town{}
			add := func(t *gazetteer.Town, km float64) {
				list = append(list, town{t.Name, t.Country, t.Region, t.Point.Latitude, t.Point.Longitude, t.Population, t.Zone, math.Round(km*10) / 10})
			}
			if named {
				for _, t := range gazetteer.Named(args[0]) {
					if len(list) < count && t.Population >= people {
						add(t, 0)
					}
				}
				if len(list) == 0 {
					return fmt.Errorf("no town of the gazetteer is called %q: it knows those of 500 people and more", args[0])
				}
			} else {
				for _, t := range gazetteer.Near(p, count, people) {
					add(t.Town, t.Km)
				}
			}
			return terminal.Emit(a, list, false, func() {
				first := "Away"
				if named {
					first = "Point"
				}
				t := terminal.NewTable(a.Out, table.Row{first, "Town", "Region", "Country", "People", "Time zone"}, "Away", "People")
				for _, x := range list {
					known, _ := almanac.ByCode(x.CountryCode)
					region, _ := almanac.Region(x.RegionCode)
					at := fmt.Sprintf("%.1f km", x.Km)
					if named {
						at = fmt.Sprintf("%.3f %.3f", x.Latitude, x.Longitude)
					}
					t.AppendRow(table.Row{at, x.City, region, known.Name + " " + x.CountryCode, terminal.Thousands(x.Population), x.TimeZone})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().IntVar(&count, "count", 5, "how many")
	cmd.Flags().IntVar(&people, "people", 0, "only towns of so many people")
	cmd.Flags().SetInterspersed(true)
	cmd.DisableFlagsInUseLine = true
	return negatives(cmd)
}

// AreasCommand lists the owner's areas.
func AreasCommand(a *terminal.App) *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "areas [LATITUDE LONGITUDE | GEO-URI]",
		Short: "List your areas, or those that hold a point",
		Long: `Areas are named polygons of GeoJSON (RFC 7946), in the files that the configuration
names under areas, or offline in --file.`,
		Example: `  eastporch areas
  eastporch areas 46.95 7.45
  eastporch areas geo:46.95,7.45 --file areas.geojson`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			var p *geo.Point
			if len(args) > 0 {
				at, err := pointOf(args)
				if err != nil {
					return terminal.Usage(err)
				}
				p = &at
			}
			var names []string
			if file != "" {
				text, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				areas, err := geo.ReadAreas(text)
				if err != nil {
					return fmt.Errorf("%s: %w", file, err)
				}
				for _, x := range areas {
					if x.Remark != "" {
						a.Note(x.Name + ": " + x.Remark)
					}
					if p == nil || x.Contains(*p) {
						names = append(names, x.Name)
					}
				}
			} else {
				c, err := a.Client()
				if err != nil {
					return err
				}
				at := ""
				if p != nil {
					at = p.URI(0)
				}
				if names, err = c.Areas(cmd.Context(), at); err != nil {
					return err
				}
			}
			return terminal.Emit(a, names, false, func() {
				if len(names) == 0 {
					a.Note("No area holds that.")
				}
				for _, n := range names {
					fmt.Fprintln(a.Out, n)
				}
			})
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "work offline on this file of GeoJSON")
	return negatives(cmd)
}

// negatives lets numbers that begin with - be arguments: the flags of cmd are
// read by hand, so that -9.14 is none.
func negatives(cmd *cobra.Command) *cobra.Command {
	run := cmd.RunE
	check := cmd.Args
	cmd.Args = cobra.ArbitraryArgs
	cmd.DisableFlagParsing = true
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var points, flags []string
		for i := 0; i < len(args); i++ {
			_, err := strconv.ParseFloat(args[i], 64)
			switch {
			case err == nil && (i == 0 || !strings.HasPrefix(args[i-1], "--") && args[i-1] != "-o" || strings.Contains(args[i-1], "=")):
				points = append(points, args[i])
			default:
				flags = append(flags, args[i])
			}
		}
		cmd.DisableFlagParsing = false
		if err := cmd.ParseFlags(flags); err != nil {
			return terminal.Usage(err)
		}
		if help, _ := cmd.Flags().GetBool("help"); help {
			return cmd.Help()
		}
		if err := cmd.Root().PersistentPreRunE(cmd, nil); err != nil {
			return err
		}
		points = append(cmd.Flags().Args(), points...)
		if err := check(cmd, points); err != nil {
			return terminal.Usage(err)
		}
		return run(cmd, points)
	}
	return cmd
}
