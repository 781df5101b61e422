package addresses

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
)

// CountriesCommand lists countries and their facts.
func CountriesCommand(a *terminal.App) *cobra.Command {
	var language, group string
	cmd := &cobra.Command{
		Use:   "countries [CODE…]",
		Short: "List countries, or show the facts of some",
		Long: `Without codes, lists the countries of ISO 3166-1 in the order of their names. With
codes, gives the facts of each: names, capital, languages, money, dialling code, time
zones, week, habits, neighbours and groups. It needs no service.`,
		Example: `  eastporch countries PT
  eastporch countries --group schengen --language nb
  eastporch countries JP --output json`,
		RunE: func(_ *cobra.Command, args []string) error {
			if _, err := locale.NewLanguages([]string{language}, ""); err != nil {
				return terminal.Usage(fmt.Errorf("--language: %w", err))
			}
			groups := almanac.Groups{}
			if group != "" && !groups.Known(group) {
				return terminal.Usage(fmt.Errorf("--group: %.40q is not a group; known are %s", group, strings.Join(groups.Names(), ", ")))
			}
			if len(args) == 0 {
				return listCountries(a, language, group)
			}
			var facts []almanac.Facts
			for _, code := range args {
				c, ok := almanac.ByCode(strings.ToUpper(code))
				if !ok {
					return almanac.CheckCode(code)
				}
				facts = append(facts, almanac.FactsOf(c, language, groups))
			}
			return terminal.Emit(a, facts, len(args) == 1, func() {
				for i, f := range facts {
					if i > 0 {
						fmt.Fprintln(a.Out)
					}
					drawCountry(a, f)
				}
			})
		},
	}
	cmd.Flags().StringVar(&language, "language", "en", "of names, as BCP 47 has it")
	cmd.Flags().StringVar(&group, "group", "", "only countries of a group: "+strings.Join(almanac.CommonGroups, ", "))
	return cmd
}

func listCountries(a *terminal.App, language, group string) error {
	var of []almanac.Country
	for _, c := range almanac.All() {
		if group == "" || slices.Contains(c.Groups, group) {
			of = append(of, c)
		}
	}
	choices := almanac.Choices(language, of)
	return terminal.Emit(a, choices, false, func() {
		t := terminal.NewTable(a.Out, table.Row{"Code", "Name", "Own name", "Money", "Calls", "Time zones"}, "Time zones")
		for _, choice := range choices {
			c, _ := almanac.ByCode(choice.CountryCode)
			t.AppendRow(table.Row{choice.CountryCode, choice.Name, choice.OwnName, strings.Join(c.Currencies, " "), strings.Join(c.Dialling, " "), len(c.Zones)})
		}
		t.Render()
		fmt.Fprintf(a.Out, "%d countries. %s.\n", len(choices), almanac.DataVersion)
	})
}

func drawCountry(a *terminal.App, f almanac.Facts) {
	fmt.Fprintf(a.Out, "%s\n%s / %s\n\n", f.Name, f.CountryCode, f.Continent)
	t := terminal.NewTable(a.Out, nil)
	row := func(name, value string) {
		if value == "" {
			value = "none"
		}
		t.AppendRow(table.Row{name, value})
	}
	var own, languages, currencies []string
	for _, tag := range slices.Sorted(maps.Keys(f.OwnNames)) {
		own = append(own, f.OwnNames[tag]+" ("+tag+")")
	}
	for _, l := range f.Languages {
		languages = append(languages, terminal.Join(" ", l.OwnName, l.Language, fmt.Sprintf("%g %%", l.Share), plain.Value(l.Status)))
	}
	for _, c := range f.Currencies {
		usual := ""
		if c.Usual && len(f.Currencies) > 1 {
			usual = ", usual"
		}
		decimals := "no minor units"
		if c.MinorUnits != nil {
			decimals = fmt.Sprintf("%d decimals", *c.MinorUnits)
		}
		if c.MinorUnits == nil || *c.MinorUnits != c.Digits {
			decimals += fmt.Sprintf(", shown with %d", c.Digits)
		}
		currencies = append(currencies, fmt.Sprintf("%s (%s%s)", c.CurrencyCode, decimals, usual))
	}
	c, _ := almanac.ByCode(f.CountryCode)
	habits := locale.SampleOf(strings.Join(append(c.Languages, "en")[:1], "")+"-"+c.Code, c.Currency)
	row("Codes", terminal.Join("  ", f.CountryCode, f.Alpha3, f.Numeric))
	row("Own names", strings.Join(own, ", "))
	if f.Capital != nil {
		row("Capital", fmt.Sprintf("%s  %g, %g", f.Capital.Name, f.Capital.Latitude, f.Capital.Longitude))
	} else {
		row("Capital", "")
	}
	row("Languages", strings.Join(languages, "\n"))
	row("Money", strings.Join(currencies, ", "))
	row("Dialling", strings.Join(f.DiallingCodes, ", "))
	row("Time zones", strings.Join(f.TimeZones, "\n"))
	row("Week", fmt.Sprintf("begins on %s; weekend %s", plain.UpperFirst(f.Week.FirstDay), strings.Join(f.Week.Weekend, ", ")))
	row("Habits", terminal.Join("\n", plain.Value(habits.Amount), habits.ShortDate, habits.DateTime, f.Measurement+", "+f.HourCycle))
	row("Neighbours", strings.Join(f.Neighbours, " "))
	row("Groups", strings.Join(f.Groups, ", "))
	t.Render()
}

// LocaleCommand says what suits somebody who is described.
func LocaleCommand(a *terminal.App) *cobra.Command {
	query := map[string]*string{}
	cmd := &cobra.Command{
		Use:   "locale",
		Short: "Show the language, currency, clock and content for a visitor",
		Long: `Asks the service what suits somebody who is described: where they are, by country or
address, what their program asks for, and what they chose before. The language is one
that the site has; the reason says which of these decided it.`,
		Example: `  eastporch locale --country-code JP --at 2027-06-12T10:00:00+02:00
  eastporch locale --address 198.18.3.40 --accept-language "fi,en;q=0.5"
  eastporch locale --country-code BR --accept-language pt-BR --output json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			asked := url.Values{}
			for name, value := range query {
				if *value != "" {
					asked.Set(name, *value)
				}
			}
			got, err := c.Locale(cmd.Context(), asked)
			if err != nil {
				return err
			}
			return terminal.Emit(a, []api.LocaleAnswer{got}, true, func() { drawLocale(a, got) })
		},
	}
	for _, f := range [][2]string{
		{"site", "the site's host, where there are several"},
		{"country_code", "where they are, ISO 3166-1 alpha-2"},
		{"address", "where they are, by an address"},
		{"accept_language", "what their program asks for"},
		{"choice", "the language that they chose before"},
		{"time_zone", "in place of the country's"},
		{"at", "a moment to write by their clock, RFC 3339"},
	} {
		query[f[0]] = cmd.Flags().String(terminal.FlagName(f[0]), "", f[1])
	}
	return cmd
}

// reasonWords say why a language was chosen.
var reasonWords = map[string]string{
	locale.ByChoice: "they chose it", locale.ByHeader: "their program asks for it", locale.ByCountry: "it is official there", locale.ByDefault: "the site's default",
}

func drawLocale(a *terminal.App, l api.LocaleAnswer) {
	t := terminal.NewTable(a.Out, nil)
	t.AppendRow(table.Row{"Language", terminal.Join("  ", l.Locale.Language, l.Locale.Names.Language) + ", " + reasonWords[l.Locale.Reason]})
	t.AppendRow(table.Row{"Written", fmt.Sprintf("%s, %s, numbers and times as in %s", l.Locale.Script, l.Locale.Direction, l.Locale.Formatting)})
	t.AppendRow(table.Row{"Offered", strings.Join(l.Locale.Offered, ", ")})
	if m := l.Money; m.CurrencyCode != nil {
		t.AppendRow(table.Row{"Money", terminal.Join("  ", *m.CurrencyCode, plain.Value(m.Symbol), strings.Join(m.Also, " "))})
		if m.Rate != nil && m.Rate.Direction != nil {
			t.AppendRow(table.Row{"Rate", fmt.Sprintf("%s, %s, %s", *m.Rate.Direction, m.Rate.Dated, m.Rate.Source)})
		}
	}
	if c := l.Clock; !c.LocalTime.IsZero() {
		hours := "outside business hours"
		if *c.BusinessHours {
			hours = "within business hours"
		}
		t.AppendRow(table.Row{"Clock", terminal.Join("  ", *c.TimeZone, c.LocalTime.String(), hours)})
	}
	if l.At != nil {
		t.AppendRow(table.Row{"Then", l.At.Text})
	}
	for _, name := range slices.Sorted(maps.Keys(l.Variants)) {
		t.AppendRow(table.Row{"Variant", name + " " + l.Variants[name]})
	}
	for _, hint := range l.Locale.Hints {
		t.AppendRow(table.Row{"Hint", hint})
	}
	t.Render()
}
