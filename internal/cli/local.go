package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/standin"
)

func (a *app) countries() *cobra.Command {
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
				return usageError{fmt.Errorf("--language: %w", err)}
			}
			groups := almanac.Groups{}
			if group != "" && !groups.Known(group) {
				return usageError{fmt.Errorf("--group: %.40q is not a group; known are %s", group, strings.Join(groups.Names(), ", "))}
			}
			if len(args) == 0 {
				return a.listCountries(language, group)
			}
			var facts []almanac.Facts
			for _, code := range args {
				c, ok := almanac.ByCode(strings.ToUpper(code))
				if !ok {
					return almanac.CheckCode(code)
				}
				facts = append(facts, almanac.FactsOf(c, language, groups))
			}
			return emit(a, facts, len(args) == 1, func() {
				for i, f := range facts {
					if i > 0 {
						fmt.Fprintln(a.Out)
					}
					a.drawCountry(f)
				}
			})
		},
	}
	cmd.Flags().StringVar(&language, "language", "en", "of names, as BCP 47 has it")
	cmd.Flags().StringVar(&group, "group", "", "only countries of a group: "+strings.Join(almanac.CommonGroups, ", "))
	return cmd
}

func (a *app) listCountries(language, group string) error {
	var of []almanac.Country
	for _, c := range almanac.All() {
		if group == "" || slices.Contains(c.Groups, group) {
			of = append(of, c)
		}
	}
	choices := almanac.Choices(language, of)
	return emit(a, choices, false, func() {
		t := newTable(a.Out, table.Row{"Code", "Name", "Own name", "Money", "Calls", "Time zones"}, "Time zones")
		for _, choice := range choices {
			c, _ := almanac.ByCode(choice.CountryCode)
			t.AppendRow(table.Row{choice.CountryCode, choice.Name, choice.OwnName, strings.Join(c.Currencies, " "), strings.Join(c.Dialling, " "), len(c.Zones)})
		}
		t.Render()
		fmt.Fprintf(a.Out, "%d countries. %s.\n", len(choices), almanac.DataVersion)
	})
}

func (a *app) drawCountry(f almanac.Facts) {
	fmt.Fprintf(a.Out, "%s\n%s / %s\n\n", f.Name, f.CountryCode, f.Continent)
	t := newTable(a.Out, nil)
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
		languages = append(languages, join(" ", l.OwnName, l.Language, fmt.Sprintf("%g %%", l.Share), plain.Value(l.Status)))
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
	row("Codes", join("  ", f.CountryCode, f.Alpha3, f.Numeric))
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
	row("Week", fmt.Sprintf("begins on %s; weekend %s", upperFirst(f.Week.FirstDay), strings.Join(f.Week.Weekend, ", ")))
	row("Habits", join("\n", plain.Value(habits.Amount), habits.ShortDate, habits.DateTime, f.Measurement+", "+f.HourCycle))
	row("Neighbours", strings.Join(f.Neighbours, " "))
	row("Groups", strings.Join(f.Groups, ", "))
	t.Render()
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (a *app) locale() *cobra.Command {
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
			c, err := a.client()
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
			return emit(a, []api.LocaleAnswer{got}, true, func() { a.drawLocale(got) })
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
		query[f[0]] = cmd.Flags().String(flagName(f[0]), "", f[1])
	}
	return cmd
}

// reasonWords say why a language was chosen.
var reasonWords = map[string]string{
	locale.ByChoice: "they chose it", locale.ByHeader: "their program asks for it", locale.ByCountry: "it is official there", locale.ByDefault: "the site's default",
}

func (a *app) drawLocale(l api.LocaleAnswer) {
	t := newTable(a.Out, nil)
	t.AppendRow(table.Row{"Language", join("  ", l.Locale.Language, l.Locale.Names.Language) + ", " + reasonWords[l.Locale.Reason]})
	t.AppendRow(table.Row{"Written", fmt.Sprintf("%s, %s, numbers and times as in %s", l.Locale.Script, l.Locale.Direction, l.Locale.Formatting)})
	t.AppendRow(table.Row{"Offered", strings.Join(l.Locale.Offered, ", ")})
	if m := l.Money; m.CurrencyCode != nil {
		t.AppendRow(table.Row{"Money", join("  ", *m.CurrencyCode, plain.Value(m.Symbol), strings.Join(m.Also, " "))})
		if m.Rate != nil && m.Rate.Direction != nil {
			t.AppendRow(table.Row{"Rate", fmt.Sprintf("%s, %s, %s", *m.Rate.Direction, m.Rate.Dated, m.Rate.Source)})
		}
	}
	if c := l.Clock; !c.LocalTime.IsZero() {
		hours := "outside business hours"
		if *c.BusinessHours {
			hours = "within business hours"
		}
		t.AppendRow(table.Row{"Clock", join("  ", *c.TimeZone, c.LocalTime.String(), hours)})
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

func (a *app) convert() *cobra.Command {
	var from, to, language, site, file, ending string
	cmd := &cobra.Command{
		Use:   "convert AMOUNT… --to CURRENCY",
		Short: "Convert amounts to another currency",
		Long: `Converts by the service's rates, or offline by a file of rates (docs/formats/rates.md).
The answer has the rate, its direction, date and source. Amounts are rounded to the
currency's decimals, or to the price ending of the site.`,
		Example: `  eastporch convert 85 --to JPY
  eastporch convert 85 120 --from EUR --to BRL --language pt-BR
  eastporch convert 85 --from EUR --to JPY --rates rates.csv --ending x00`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			answer, err := a.conversions(cmd, args, from, to, language, site, file, ending)
			if err != nil {
				return err
			}
			return emit(a, answer.Conversions, len(args) == 1, func() {
				t := newTable(a.Out, table.Row{"From", "To", "Exact", "Rounded to"}, "From", "To", "Exact")
				for _, c := range answer.Conversions {
					t.AppendRow(table.Row{c.From.Text, c.To.Text, c.Exact, c.Rounding})
				}
				t.Render()
				last := answer.Conversions[len(answer.Conversions)-1]
				fmt.Fprintf(a.Out, "%s, %s, %s.\n", last.Direction, last.Dated, last.Source)
				if answer.Stale {
					a.noteln(fmt.Sprintf("These rates are %d days old.", last.AgeDays))
				}
			})
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "the currency of the amounts, ISO 4217; the site's by default")
	cmd.Flags().StringVar(&to, "to", "", "the other currency, ISO 4217")
	cmd.Flags().StringVar(&language, "language", "en", "whose habits amounts are written by, BCP 47")
	cmd.Flags().StringVar(&site, "site", "", "the site's host, where there are several")
	cmd.Flags().StringVar(&file, "rates", "", "work offline by this file of rates")
	cmd.Flags().StringVar(&ending, "ending", "", "offline: how prices end, such as x.95")
	return cmd
}

func (a *app) conversions(cmd *cobra.Command, args []string, from, to, language, site, file, ending string) (answer api.Conversions, err error) {
	if file == "" {
		if ending != "" {
			return answer, usageError{errors.New("--ending goes with --rates: the service has its site's own")}
		}
		c, err := a.client()
		if err != nil {
			return answer, err
		}
		query := url.Values{"amount": args, "to": {to}, "language": {language}}
		for name, value := range map[string]string{"from": from, "site": site} {
			if value != "" {
				query.Set(name, value)
			}
		}
		return c.Convert(cmd.Context(), query)
	}
	var ends locale.Ending
	if ending != "" {
		if ends, err = locale.ParseEnding(ending); err != nil {
			return answer, usageError{fmt.Errorf("--ending: %w", err)}
		}
	}
	if from, err = locale.ParseCurrency(from); err == nil {
		to, err = locale.ParseCurrency(to)
	}
	if err != nil {
		return answer, usageError{err}
	}
	in, err := os.Open(file)
	if err != nil {
		return answer, err
	}
	defer in.Close()
	rates, err := locale.ReadRates(in, file)
	if err != nil {
		return answer, err
	}
	for _, reject := range rates.Rejects {
		a.noteln("not used: " + reject)
	}
	for _, text := range args {
		value, err := locale.ParseAmount(text)
		if err != nil {
			return answer, usageError{err}
		}
		one, err := rates.Convert(value, from, to, ends, language, time.Now())
		if err != nil {
			return answer, err
		}
		answer.Conversions = append(answer.Conversions, one)
	}
	return answer, nil
}

func (a *app) rates() *cobra.Command {
	return &cobra.Command{
		Use:   "rates",
		Short: "Show the exchange rates, their age and any problem",
		Example: `  eastporch rates
  eastporch rates --output json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.Rates(cmd.Context())
			if err != nil {
				return err
			}
			return emit(a, []api.Rates{r}, true, func() {
				if r.Base == nil {
					fmt.Fprintln(a.Out, "There are no rates: name a file or an url under rates in the configuration.")
				} else {
					t := newTable(a.Out, table.Row{"Currency", "For 1 " + *r.Base}, "For 1 "+*r.Base)
					for _, code := range slices.Sorted(maps.Keys(r.Rates)) {
						t.AppendRow(table.Row{code, r.Rates[code]})
					}
					t.Render()
					fmt.Fprintf(a.Out, "%s, dated %s, %d days old.\n", plain.Value(r.Source), plain.Value(r.Dated), *r.AgeDays)
				}
				if r.Stale {
					a.noteln("These rates are older than rates.stale_days in the configuration allows.")
				}
				for _, reject := range r.Rejects {
					a.noteln("not used: " + reject)
				}
				if r.Problem != nil {
					a.noteln("the last reading failed: " + *r.Problem)
				}
			})
		},
	}
}

func (a *app) standin() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "standin",
		Short: "Run a small stand-in for a service outside",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	var address string
	rates := &cobra.Command{
		Use:   "rates",
		Short: "Serve invented daily exchange rates, as JSON and CSV",
		Long: `Serves invented exchange rates of the day at /rates.json and /rates.csv, in the forms
of docs/formats/rates.md, until Ctrl-C. Other days: /rates.csv?date=2026-11-25. Name it
under rates.url in the configuration, with rates.fetch_inside: true.`,
		Example: `  eastporch standin rates
  curl http://127.0.0.1:8090/rates.csv`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := net.Listen("tcp", address)
			if err != nil {
				return fmt.Errorf("%w; give another with --address", err)
			}
			fmt.Fprintf(a.Out, "Invented rates at http://%[1]s/rates.json and http://%[1]s/rates.csv. Ctrl-C stops.\n", l.Addr())
			server := &http.Server{Handler: standin.Rates(time.Now), ReadHeaderTimeout: 5 * time.Second}
			done := make(chan error, 1)
			go func() { done <- server.Serve(l) }()
			select {
			case err := <-done:
				return err
			case <-cmd.Context().Done():
				stop, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), time.Second)
				defer cancel()
				err := server.Shutdown(stop)
				<-done
				return err
			}
		},
	}
	rates.Flags().StringVar(&address, "address", "127.0.0.1:8090", "where to listen")
	cmd.AddCommand(rates)
	return cmd
}
