package locale

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"eastporch/internal/core/almanac"
)

// Rates say what one unit of a base currency is worth in others on a day. They are
// immutable and safe for concurrent use; the zero Rates convert nothing. Their two
// forms are described in docs/formats/rates.md.
type Rates struct {
	Base   string // ISO 4217
	Dated  time.Time
	Source string
	Of     map[string]decimal.Decimal // by currency; the base itself is 1
	// Rejects are the rates that could not be used, with the line or key and the reason.
	Rejects []string
}

// ErrRates is wrapped where rates cannot be read or do not serve.
var ErrRates = errors.New("no rate serves")

// Bounds of a file of rates.
const (
	maxRates   = 1 << 20 // bytes
	maxRejects = 20
)

// ReadRates reads rates as JSON where the text begins with {, else as CSV with a head
// naming date, base, currency and rate, of which the newest date serves. Rates that are
// no positive numbers, and currencies that do not exist, are rejected and the rest is
// read; an error means that nothing was.
func ReadRates(r io.Reader, source string) (Rates, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxRates+1))
	if err != nil {
		return Rates{}, fmt.Errorf("%w: %w", ErrRates, err)
	}
	if len(text) > maxRates {
		return Rates{}, fmt.Errorf("%w: the file has more than %d bytes", ErrRates, maxRates)
	}
	rates := Rates{Source: source, Of: map[string]decimal.Decimal{}}
	clean := strings.TrimSpace(strings.TrimPrefix(string(text), "\ufeff"))
	if strings.HasPrefix(clean, "{") {
		err = rates.readJSON(clean)
	} else {
		err = rates.readCSV(clean)
	}
	if err != nil {
		return Rates{}, fmt.Errorf("%w: %w", ErrRates, err)
	}
	if len(rates.Of) == 0 {
		reason := "there are no rates in it"
		if len(rates.Rejects) > 0 {
			reason = rates.Rejects[0]
		}
		return Rates{}, fmt.Errorf("%w: %s", ErrRates, reason)
	}
	rates.Of[rates.Base] = decimal.New(1, 0)
	return rates, nil
}

func (r *Rates) head(date, base string) error {
	dated, err := time.Parse(time.DateOnly, date)
	if err != nil {
		return fmt.Errorf("date: %.20q is not a date such as 2026-11-25", date)
	}
	if r.Base, err = ParseCurrency(base); err != nil {
		return fmt.Errorf("base: %.10q is not a currency of ISO 4217", base)
	}
	r.Dated = dated
	return nil
}

func (r *Rates) add(where, currency, rate string) {
	reject := func(reason string) {
		if len(r.Rejects) < maxRejects {
			r.Rejects = append(r.Rejects, where+": "+reason)
		}
	}
	code, err := ParseCurrency(currency)
	if err != nil {
		reject(fmt.Sprintf("%.10q is not a currency of ISO 4217", currency))
		return
	}
	value, err := ParseAmount(rate)
	switch {
	case err != nil:
		reject(fmt.Sprintf("the rate %.20q is not a number", rate))
	case value.Sign() <= 0:
		reject(fmt.Sprintf("the rate %s of %s is not more than 0", rate, code))
	default:
		r.Of[code] = value
	}
}

func (r *Rates) readJSON(text string) error {
	var file struct {
		Date  string                     `json:"date"`
		Base  string                     `json:"base"`
		Rates map[string]json.RawMessage `json:"rates"`
	}
	if err := json.Unmarshal([]byte(text), &file); err != nil {
		return fmt.Errorf("it is no JSON of date, base and rates: %w", err)
	}
	if err := r.head(file.Date, file.Base); err != nil {
		return err
	}
	for _, code := range slices.Sorted(maps.Keys(file.Rates)) {
		r.add("rates."+code, code, strings.Trim(string(file.Rates[code]), `"`))
	}
	return nil
}

func (r *Rates) readCSV(text string) error {
	lines := csv.NewReader(strings.NewReader(text))
	head, err := lines.Read()
	if err != nil {
		return fmt.Errorf("line 1: %w", err)
	}
	column := map[string]int{}
	for i, name := range head {
		column[strings.ToLower(strings.TrimSpace(name))] = i
	}
	for _, name := range []string{"date", "base", "currency", "rate"} {
		if _, ok := column[name]; !ok {
			return fmt.Errorf("line 1: the column %s is missing: write date,base,currency,rate", name)
		}
	}
	for {
		row, err := lines.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		number, _ := lines.FieldPos(0)
		if err != nil {
			return err // csv names the line
		}
		date := row[column["date"]]
		switch old := r.Dated.Format(time.DateOnly); {
		case r.Base != "" && date < old:
			continue
		case r.Base == "" || date > old:
			if err := r.head(date, row[column["base"]]); err != nil {
				return fmt.Errorf("line %d: %w", number, err)
			}
			clear(r.Of)
		case row[column["base"]] != r.Base:
			r.Rejects = append(r.Rejects, fmt.Sprintf("line %d: the base %.10q is not %s", number, row[column["base"]], r.Base))
			continue
		}
		r.add(fmt.Sprintf("line %d", number), row[column["currency"]], row[column["rate"]])
	}
}

// AgeWords says in English how many days old something is.
func AgeWords(days int) string {
	switch days {
	case 0:
		return "of today"
	case 1:
		return "one day old"
	}
	return fmt.Sprintf("%d days old", days)
}

// AgeDays counts the days since the rates' date, at a time.
func (r Rates) AgeDays(now time.Time) int {
	return int(now.UTC().Truncate(24*time.Hour).Sub(r.Dated) / (24 * time.Hour))
}

// rateDigits are the decimals of a rate that is the quotient of two; wordDigits are those in words, and
// the digits that count there of a small one.
const rateDigits, wordDigits = 20, 10

// between is the rate from one currency to another, for whoever reads it: amounts are converted by the
// two rates that it is made of, and rounded once.
func (r Rates) between(from, to string) decimal.Decimal {
	return r.Of[to].DivRound(r.Of[from], rateDigits)
}

func direction(from, to string, rate decimal.Decimal) string {
	zeros := max(0, -rate.NumDigits()-int(rate.Exponent())) // behind the point
	return fmt.Sprintf("1 %s = %s %s", from, rate.Round(min(int32(wordDigits+zeros), rateDigits)), to)
}

// Table gives the rate from one currency to each that there are rates of, by currency;
// none where there is no rate of it.
func (r Rates) Table(from string, endings map[string]Ending) map[string]*Rate {
	table := map[string]*Rate{}
	for to := range r.Of {
		if one := r.Between(from, to, endings); one != nil {
			table[to] = one
		}
	}
	return table
}

// Between gives the rate from one currency to another, with how prices end there; nil where
// one of the two has none.
func (r Rates) Between(from, to string, endings map[string]Ending) *Rate {
	if _, ok := r.Of[from]; !ok {
		return nil
	}
	if _, ok := r.Of[to]; !ok {
		return nil
	}
	rate := r.between(from, to)
	one := &Rate{From: from, Rate: rate, Dated: r.Dated.Format(time.DateOnly), Source: r.Source}
	if to != from {
		words := direction(from, to, rate)
		one.Direction = &words
		if e, ok := endings[to]; ok {
			one.Ending = &e.text
		}
	}
	return one
}

// A Conversion is an amount in another currency, with everything that it was made of.
type Conversion struct {
	From      Amount          `json:"from"`
	To        Amount          `json:"to"`
	Rate      decimal.Decimal `json:"rate"`      // units of to for one of from
	Direction string          `json:"direction"` // the rate in words: 1 EUR = 161.25 JPY
	Exact     decimal.Decimal `json:"exact"`     // before it was rounded; to 20 decimals, where it has no end
	Rounding  string          `json:"rounding"`  // what it was rounded to, in words
	Dated     string          `json:"dated"`     // of the rates, YYYY-MM-DD
	AgeDays   int             `json:"age_days"`
	Source    string          `json:"source"`
}

// Convert gives an amount in another currency, rounded to its minor units, halves away from zero (to the
// decimals that are shown where ISO 4217 has none), or to the owner's ending; texts are by the habits of a
// language. An error wraps [ErrRates] where one of the two has no rate.
func (r Rates) Convert(value decimal.Decimal, from, to string, ending Ending, tag string, now time.Time) (Conversion, error) {
	if r.Base == "" {
		return Conversion{}, fmt.Errorf("%w: there are no rates", ErrRates)
	}
	for _, code := range []string{from, to} {
		if _, ok := r.Of[code]; !ok {
			return Conversion{}, fmt.Errorf("%w: the rates of %s have none for %s", ErrRates, r.Dated.Format(time.DateOnly), code)
		}
	}
	minor := int32(almanac.DisplayDigitsOf(to))
	if units, ok := almanac.MinorUnitsOf(to); ok {
		minor = int32(units)
	}
	if from == to {
		ending = Ending{}
	}
	rate, product := r.between(from, to), value.Mul(r.Of[to])
	exact := product.DivRound(r.Of[from], rateDigits)
	rounded, words := product.DivRound(r.Of[from], minor), fmt.Sprintf("%d decimals, halves away from zero", minor)
	if ending.text != "" {
		rounded, words = ending.Round(exact).Round(max(minor, -ending.end.Exponent())), "the price ending "+ending.text
	}
	return Conversion{
		From: Amount{value, from, FormatAmount(value, from, tag, Ending{})}, To: Amount{rounded, to, FormatAmount(rounded, to, tag, ending)},
		Rate: rate, Direction: direction(from, to, rate), Exact: exact, Rounding: words,
		Dated: r.Dated.Format(time.DateOnly), AgeDays: r.AgeDays(now), Source: r.Source,
	}, nil
}
