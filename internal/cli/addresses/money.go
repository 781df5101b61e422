package addresses

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
)

// ConvertCommand converts amounts.
func ConvertCommand(a *terminal.App) *cobra.Command {
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
			answer, err := conversions(a, cmd, args, from, to, language, site, file, ending)
			if err != nil {
				return err
			}
			return terminal.Emit(a, answer.Conversions, len(args) == 1, func() {
				t := terminal.NewTable(a.Out, table.Row{"From", "To", "Exact", "Rounded to"}, "From", "To", "Exact")
				for _, c := range answer.Conversions {
					t.AppendRow(table.Row{c.From.Text, c.To.Text, c.Exact, c.Rounding})
				}
				t.Render()
				last := answer.Conversions[len(answer.Conversions)-1]
				fmt.Fprintf(a.Out, "%s, %s, %s.\n", last.Direction, last.Dated, last.Source)
				if answer.Stale {
					a.Note(fmt.Sprintf("These rates are %s.", locale.AgeWords(last.AgeDays)))
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

func conversions(a *terminal.App, cmd *cobra.Command, args []string, from, to, language, site, file, ending string) (answer api.Conversions, err error) {
	if file == "" {
		if ending != "" {
			return answer, terminal.Usage(errors.New("--ending goes with --rates: the service has its site's own"))
		}
		c, err := a.Client()
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
			return answer, terminal.Usage(fmt.Errorf("--ending: %w", err))
		}
	}
	if from, err = locale.ParseCurrency(from); err == nil {
		to, err = locale.ParseCurrency(to)
	}
	if err != nil {
		return answer, terminal.Usage(err)
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
		a.Note("not used: " + reject)
	}
	for _, text := range args {
		value, err := locale.ParseAmount(text)
		if err != nil {
			return answer, terminal.Usage(err)
		}
		one, err := rates.Convert(value, from, to, ends, language, time.Now())
		if err != nil {
			return answer, err
		}
		answer.Conversions = append(answer.Conversions, one)
	}
	return answer, nil
}

// RatesCommand shows the exchange rates.
func RatesCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "rates",
		Short: "Show the exchange rates, their age and any problem",
		Example: `  eastporch rates
  eastporch rates --output json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			r, err := c.Rates(cmd.Context())
			if err != nil {
				return err
			}
			return terminal.Emit(a, []api.Rates{r}, true, func() {
				if r.Base == nil {
					fmt.Fprintln(a.Out, "There are no rates: name a file or an url under rates in the configuration.")
				} else {
					t := terminal.NewTable(a.Out, table.Row{"Currency", "For 1 " + *r.Base}, "For 1 "+*r.Base)
					for _, code := range slices.Sorted(maps.Keys(r.Rates)) {
						t.AppendRow(table.Row{code, r.Rates[code]})
					}
					t.Render()
					fmt.Fprintf(a.Out, "%s, dated %s, %s.\n", plain.Value(r.Source), plain.Value(r.Dated), locale.AgeWords(*r.AgeDays))
				}
				if r.Stale {
					a.Note("These rates are older than rates.stale_days in the configuration allows.")
				}
				for _, reject := range r.Rejects {
					a.Note("not used: " + reject)
				}
				if r.Problem != nil {
					a.Note("the last reading failed: " + *r.Problem)
				}
			})
		},
	}
}
