package locale

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/shopspring/decimal"

	"eastporch/internal/core/almanac"
)

var (
	noOthers = []string{}
	noRates  = []Rate{}
)

// smallNumbers are the numbers of decimals, to be pointed to.
var smallNumbers = [...]int{0, 1, 2, 3, 4}

// MoneyOf gives the currency of a country, which may be nil.
func MoneyOf(c *almanac.Country) Money {
	if c == nil || c.Currency == "" {
		return Money{Also: noOthers, Rates: noRates}
	}
	m := Money{CurrencyCode: &c.Currency, Symbol: &c.Symbol, Digits: &smallNumbers[almanac.DisplayDigitsOf(c.Currency)], Also: noOthers, Rates: noRates}
	if units, ok := almanac.MinorUnitsOf(c.Currency); ok {
		m.MinorUnits = &smallNumbers[units]
	}
	if len(c.Currencies) > 1 {
		m.Also = c.Currencies[1:]
	}
	return m
}

// ErrAmount is wrapped by what is wrong with an amount or a currency.
var ErrAmount = errors.New("this is not an amount of money")

// maxAmount bounds what is converted and written.
var maxAmount = decimal.New(1, 18)

// ParseAmount reads a decimal number with a point, such as -12.50, without groups: at
// most 18 digits before the point and 12 after it.
func ParseAmount(text string) (decimal.Decimal, error) {
	clean := strings.TrimSpace(text)
	if clean == "" || len(clean) > 40 || strings.Trim(clean, "+-.0123456789") != "" {
		return decimal.Decimal{}, fmt.Errorf("%w: %.40q is not a decimal number such as 12.50", ErrAmount, text)
	}
	d, err := decimal.NewFromString(clean)
	switch {
	case err != nil:
		return decimal.Decimal{}, fmt.Errorf("%w: %.40q is not a decimal number such as 12.50", ErrAmount, text)
	case d.Abs().GreaterThanOrEqual(maxAmount):
		return decimal.Decimal{}, fmt.Errorf("%w: %.40s has more than 18 digits before the point", ErrAmount, clean)
	case d.Exponent() < -12:
		return decimal.Decimal{}, fmt.Errorf("%w: %.40s has more than 12 digits after the point", ErrAmount, clean)
	}
	return d, nil
}

// ParseCurrency checks a code of ISO 4217, in capitals or not.
func ParseCurrency(code string) (string, error) {
	upper := strings.ToUpper(strings.TrimSpace(code))
	if almanac.IsCurrency(upper) {
		return upper, nil
	}
	if c, ok := almanac.ByCode(upper); ok && c.Currency != "" {
		return "", fmt.Errorf("%w: %.10q is a country: did you mean %s?", ErrAmount, code, c.Currency)
	}
	return "", fmt.Errorf("%w: %.10q is not a currency of ISO 4217", ErrAmount, code)
}

// FormatAmount writes an amount by the habits of a language (BCP 47), rounded to the
// decimals that are shown of the currency, halves away from zero; ending is how the
// owner's prices end, which is shown whole.
func FormatAmount(value decimal.Decimal, currency, tag string, ending Ending) string {
	decimals := int32(almanac.DisplayDigitsOf(currency))
	if ending.text != "" {
		decimals = max(decimals, -ending.end.Exponent())
	}
	value = value.Round(decimals)
	h := habitsOf(tag)
	sign, pattern := currency, h[amountPattern]
	for one := range strings.SplitSeq(h[currencySigns], inner) {
		fields := strings.Split(one, "=")
		if fields[0] != currency {
			continue
		}
		if sign = fields[1]; len(fields) == 5 { // which is written otherwise than others
			own := *h
			own[decimalMark], own[groupMark] = fields[3], fields[4]
			h, pattern = &own, cmp.Or(fields[2], pattern)
		}
	}
	if pattern == h[amountPattern] && letterByNumber(sign, pattern) {
		if pattern = h[amountLetters]; letterByNumber(sign, pattern) {
			pattern = strings.NewReplacer("¤#", "¤\u00a0#", "0¤", "0\u00a0¤").Replace(pattern)
		}
	}
	positive, negative, hasNegative := strings.Cut(pattern, ";")
	use, minus := positive, ""
	if value.Sign() < 0 {
		if hasNegative {
			use = negative
		} else {
			minus = h[minusSign]
		}
	}
	first, last := strings.IndexAny(use, "#0"), strings.LastIndexAny(use, "#0")
	text := use[:first] + h.number(value.Abs(), decimals, use[first:last+1]) + use[last+1:]
	text = strings.ReplaceAll(text, "¤", sign)
	if hasNegative && value.Sign() < 0 {
		text = strings.Replace(text, "-", h[minusSign], 1)
	}
	return minus + text
}

// letterByNumber says whether a letter of the sign would touch the number.
func letterByNumber(sign, pattern string) bool {
	_, after, _ := strings.Cut(pattern, "¤")
	if strings.ContainsAny(after, "#0") { // the sign stands first
		r, _ := utf8.DecodeLastRuneInString(sign)
		return unicode.IsLetter(r)
	}
	r, _ := utf8.DecodeRuneInString(sign)
	return unicode.IsLetter(r)
}

// number writes a number that is not negative with the groups of a pattern, such as
// #,##,##0.00.
func (h *Habits) number(value decimal.Decimal, decimals int32, pattern string) string {
	whole, part, _ := strings.Cut(value.StringFixed(decimals), ".")
	integers, _, _ := strings.Cut(pattern, ".")
	groups := strings.Split(integers, ",")
	primary, secondary := 0, 0
	if len(groups) > 1 {
		primary = len(groups[len(groups)-1])
		secondary = primary
		if len(groups) > 2 {
			secondary = len(groups[len(groups)-2])
		}
	}
	least, _ := strconv.Atoi(h[minGrouping])
	if primary > 0 && len(whole) >= primary+least {
		grouped := whole[len(whole)-primary:]
		rest := whole[:len(whole)-primary]
		for len(rest) > secondary {
			grouped = rest[len(rest)-secondary:] + h[groupMark] + grouped
			rest = rest[:len(rest)-secondary]
		}
		whole = rest + h[groupMark] + grouped
	}
	if part != "" {
		whole += h[decimalMark] + part
	}
	return h.digits(whole)
}

// An Ending is how an owner's prices end in one currency: 0.95 of every 1, 00 of every
// 100. The zero Ending rounds to minor units.
type Ending struct {
	step, end decimal.Decimal
	text      string
}

// ParseEnding reads an ending: an x for whatever comes before, then the digits that
// prices end in, such as x.95, x9.90 or x00.
func ParseEnding(text string) (Ending, error) {
	digits, ok := strings.CutPrefix(text, "x")
	bad := fmt.Errorf("%w: %.20q is not an ending of prices, such as x.95 or x00", ErrAmount, text)
	if !ok || strings.TrimSuffix(digits, ".") != digits || digits == "" || len(digits) > 12 || strings.Trim(digits, ".0123456789") != "" {
		return Ending{}, bad
	}
	end, err := decimal.NewFromString("0" + digits)
	if err != nil {
		return Ending{}, bad
	}
	whole, _, _ := strings.Cut(digits, ".")
	return Ending{step: decimal.New(1, int32(len(whole))), end: end, text: text}, nil
}

// String writes what [ParseEnding] reads; "" for the zero Ending.
func (e Ending) String() string { return e.text }

// Round gives the price that ends so and is nearest to value, the higher of two; never
// one that is nothing, or of another sign. Nothing stays nothing.
func (e Ending) Round(value decimal.Decimal) decimal.Decimal {
	if e.text == "" || value.IsZero() {
		return value
	}
	size := value.Abs()
	steps := size.Sub(e.end).Div(e.step)
	low := steps.Floor().Mul(e.step).Add(e.end)
	best := low
	if high := low.Add(e.step); size.Sub(low).GreaterThanOrEqual(high.Sub(size)) || low.Sign() <= 0 {
		best = high
	}
	if value.Sign() < 0 {
		return best.Neg()
	}
	return best
}

// FormatNumber writes a number by the habits of a language (BCP 47), with so many decimals, halves away from
// zero.
func FormatNumber(value decimal.Decimal, decimals int32, tag string) string {
	h := habitsOf(tag)
	positive, _, _ := strings.Cut(h[amountPattern], ";")
	first, last := strings.IndexAny(positive, "#0"), strings.LastIndexAny(positive, "#0")
	value = value.Round(decimals)
	text := h.number(value.Abs(), decimals, positive[first:last+1])
	if value.Sign() < 0 {
		text = h[minusSign] + text
	}
	return text
}
