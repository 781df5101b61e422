package locale

import (
	"maps"
	"math/big"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
)

func d(text string) decimal.Decimal { return decimal.RequireFromString(text) }

func TestMoneyOf(t *testing.T) {
	japan := MoneyOf(country(t, "JP"))
	assert.Equal(t, "JPY", *japan.CurrencyCode)
	assert.Zero(t, *japan.MinorUnits)
	assert.Empty(t, japan.Also)
	assert.Equal(t, []string{"USD"}, MoneyOf(country(t, "PA")).Also, "all are listed, one is usual")
	assert.Nil(t, MoneyOf(nil).CurrencyCode)
	assert.Nil(t, MoneyOf(country(t, "AQ")).CurrencyCode)
}

func TestFormatAmount(t *testing.T) {
	tests := []struct{ value, currency, tag, want string }{
		{"1234.5", "EUR", "pt-PT", "1234,50 €"}, // four digits are not grouped there
		{"12345.5", "EUR", "pt-PT", "12 345,50 €"},
		{"1234.5", "BRL", "pt-BR", "R$ 1.234,50"},
		{"1234", "JPY", "ja", "￥1,234"},
		{"1234", "JPY", "en", "¥1,234"},
		{"-1234.5", "USD", "en-US", "-$1,234.50"},
		{"1234567.5", "INR", "en-IN", "₹12,34,567.50"},
		{"1234.5", "KWD", "en", "KWD 1,234.500"}, // three decimals; a letter keeps its distance
		{"1234.5", "CHF", "de-CH", "CHF 1'234.50"},
		{"-5", "CHF", "de-CH", "CHF-5.00"},
		{"0", "EUR", "de", "0,00 €"},
		{"12.345", "EUR", "en", "€12.35"}, // halves go away from zero
		{"-0.5", "HUF", "en", "-HUF 1"},   // two decimals, of which none is shown
		{"1234.5", "IQD", "en", "IQD 1,235"},
		{"1234.5", "COP", "es-CO", "$ 1.235"},
		{"1234.5", "CAD", "en-CA", "$1,234.50"},
		{"1234.5", "CAD", "en", "CA$1,234.50"},
		{"1234.5", "EUR", "xx-nothing", "€1,234.50"},
	}
	for _, tt := range tests {
		got := strings.NewReplacer("\u202f", " ", "\u00a0", " ", "\u200f", "", "\u200e", "").Replace(FormatAmount(d(tt.value), tt.currency, tt.tag, Ending{}))
		assert.Equal(t, tt.want, got, "%s %s in %s", tt.value, tt.currency, tt.tag)
	}
	assert.Contains(t, FormatAmount(d("1234.5"), "EGP", "ar-EG", Ending{}), "١٬٢٣٤٫٥٠")
	for tag := range habitTables() {
		assert.NotContains(t, FormatAmount(d("-1234567.89"), "EUR", tag, Ending{}), "#", tag)
		assert.NotContains(t, FormatAmount(d("1234567.89"), "XAF", tag, Ending{}), "¤", tag)
	}
}

func TestParseAmountAndCurrency(t *testing.T) {
	for _, good := range []string{"0", "12.50", "-0.01", "+3", "999999999999999999", " 7 "} {
		_, err := ParseAmount(good)
		assert.NoError(t, err, good)
	}
	for text, reason := range map[string]string{
		"": "not a decimal number", "12,50": "not a decimal number", "1e9": "not a decimal number", "NaN": "not a decimal number", "ten": "not a decimal number",
		"--1": "not a decimal number", "1.2.3": "not a decimal number", ".": "not a decimal number", "1000000000000000000": "18 digits before", "0.0000000000001": "12 digits after",
		strings.Repeat("9", 10_000): "not a decimal number",
	} {
		_, err := ParseAmount(text)
		assert.ErrorIs(t, err, ErrAmount)
		assert.ErrorContains(t, err, reason, "%.20s", text)
	}
	code, err := ParseCurrency("eur")
	assert.NoError(t, err)
	assert.Equal(t, "EUR", code)
	_, err = ParseCurrency("JP")
	assert.ErrorContains(t, err, "did you mean JPY?")
	_, err = ParseCurrency("ZZZ")
	assert.ErrorContains(t, err, "not a currency of ISO 4217")
}

func TestEndings(t *testing.T) {
	tests := []struct{ ending, value, want string }{
		{"x.95", "12.40", "11.95"}, // .45 down, .55 up
		{"x.95", "12.45", "12.95"}, // halves go up
		{"x.95", "12.96", "12.95"},
		{"x.95", "0.10", "0.95"}, // never nothing
		{"x00", "16125", "16100"},
		{"x00", "16150", "16200"},
		{"x00", "20", "100"},
		{"x9.90", "123", "119.90"},
		{"x9", "4", "9"},
		{"x.95", "-12.40", "-11.95"},
		{"x.95", "0", "0"},
	}
	for _, tt := range tests {
		e, err := ParseEnding(tt.ending)
		require.NoError(t, err)
		assert.Equal(t, tt.want, e.Round(d(tt.value)).StringFixed(max(0, -d(tt.want).Exponent())), "%s by %s", tt.value, tt.ending)
		assert.Equal(t, tt.ending, e.String())
	}
	for _, bad := range []string{"", "x", "95", "x.", "xx9", "x9.9.9", "x-1", "x1234567890123"} {
		_, err := ParseEnding(bad)
		assert.ErrorIs(t, err, ErrAmount, bad)
	}
	assert.Equal(t, d("1.234"), Ending{}.Round(d("1.234")))
}

// A price that ends so is never further away than half a step, and always ends so.
func FuzzEnding(f *testing.F) {
	f.Add(uint32(1240), uint16(95), uint8(2))
	f.Fuzz(func(t *testing.T, cents uint32, end uint16, places uint8) {
		text := "x" + decimal.New(int64(end%100), -2).StringFixed(2)[1:]
		e, err := ParseEnding(text)
		require.NoError(t, err)
		value := decimal.New(int64(cents), -2)
		got := e.Round(value)
		if value.IsZero() {
			return
		}
		assert.Positive(t, got.Sign())
		assert.True(t, got.Sub(e.end).Mod(e.step).IsZero(), "%s does not end in %s", got, text)
		if got.GreaterThan(e.step) {
			assert.True(t, got.Sub(value).Abs().LessThanOrEqual(e.step.Div(decimal.New(2, 0))), "%s is far from %s", got, value)
		}
	})
}

const ratesCSV = `date,base,currency,rate
2026-11-24,EUR,JPY,150
2026-11-25,EUR,JPY,161.25
2026-11-25,EUR,BRL,6.2
2026-11-25,EUR,KWD,0.333
2026-11-25,EUR,USD,1.08
2026-11-25,EUR,SEK,0
2026-11-25,EUR,NOK,-11
2026-11-25,EUR,XXQ,3
2026-11-25,EUR,GBP,much
2026-11-25,USD,CHF,0.9
2026-11-23,EUR,DKK,7.4
`

func TestReadRates(t *testing.T) {
	r, err := ReadRates(strings.NewReader(ratesCSV), "Regatta bank")
	require.NoError(t, err)
	assert.Equal(t, []string{"BRL", "EUR", "JPY", "KWD", "USD"}, slices.Sorted(maps.Keys(r.Of)), "the newest day serves")
	assert.Equal(t, "161.25", r.Of["JPY"].String())
	require.Len(t, r.Rejects, 5)
	for i, want := range []string{"line 7: the rate 0 of SEK", "line 8: the rate -11 of NOK", `line 9: "XXQ" is not a currency`, `line 10: the rate "much" is not a number`, `line 11: the base "USD" is not EUR`} {
		assert.Contains(t, r.Rejects[i], want)
	}
	j, err := ReadRates(strings.NewReader(`{"date":"2026-11-25","base":"EUR","rates":{"JPY":161.25,"BRL":"6.2","SEK":0,"NOK":null}}`), "Regatta bank")
	require.NoError(t, err)
	assert.Equal(t, []string{"BRL", "EUR", "JPY"}, slices.Sorted(maps.Keys(j.Of)))
	assert.Len(t, j.Rejects, 2)
	for text, reason := range map[string]string{
		"":                          "line 1",
		"a,b\n1,2\n":                "the column date is missing",
		"date,base,currency,rate\n": "there are no rates",
		"date,base,currency,rate\nsoon,EUR,JPY,1\n":     "line 2: date",
		"date,base,currency,rate\n2026-11-25,EU,JPY,1":  "base",
		"date,base,currency,rate\n2026-11-25,EUR,JPY":   "wrong number of fields",
		`{"date":"2026-11-25","base":"EUR","rates":{}}`: "there are no rates",
		`{"date":1}`: "no JSON of date, base and rates",
		`{`:          "no JSON of date, base and rates",
		"date,base,currency,rate\n2026-11-25,EUR,JPY,0\n": "line 2: the rate 0 of JPY is not more than 0",
		strings.Repeat("x", maxRates+1):                   "more than",
	} {
		_, err := ReadRates(strings.NewReader(text), "x")
		assert.ErrorIs(t, err, ErrRates)
		assert.ErrorContains(t, err, reason)
	}
}

// Worked out by hand from the rates above.
func TestConvert(t *testing.T) {
	r, err := ReadRates(strings.NewReader(ratesCSV), "Regatta bank")
	require.NoError(t, err)
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	ending, err := ParseEnding("x00")
	require.NoError(t, err)
	tests := []struct {
		value, from, to string
		ending          Ending
		want, rate      string
	}{
		{"85", "EUR", "JPY", Ending{}, "13706", "161.25"},     // 13706.25: no decimals
		{"85", "EUR", "JPY", ending, "13700", "161.25"},       // the owner's ending
		{"85", "EUR", "KWD", Ending{}, "28.305", "0.333"},     // three decimals
		{"85.005", "EUR", "KWD", Ending{}, "28.307", "0.333"}, // 28.306665
		{"85", "EUR", "BRL", Ending{}, "527", "6.2"},
		{"1000", "JPY", "EUR", Ending{}, "6.2", "0.006201550388"}, // 1000 / 161.25 = 6.2015…
		{"100", "USD", "BRL", Ending{}, "574.07", "5.7407407407"}, // 100 / 1.08 × 6.2 = 574.074…
		{"2", "KWD", "JPY", Ending{}, "968", "484.2342342342"},    // 2 × 161.25 / 0.333 = 968.468…
		{"0.5", "EUR", "JPY", Ending{}, "81", "161.25"},           // 80.625
		{"-85", "EUR", "JPY", Ending{}, "-13706", "161.25"},
		{"0", "EUR", "JPY", ending, "0", "161.25"},
		{"85", "EUR", "EUR", Ending{}, "85", "1"},
	}
	for _, tt := range tests {
		c, err := r.Convert(d(tt.value), tt.from, tt.to, tt.ending, "en", now)
		require.NoError(t, err)
		assert.True(t, d(tt.want).Equal(c.To.Value), "%s %s are %s %s, not %s", tt.value, tt.from, tt.want, tt.to, c.To.Value)
		assert.Equal(t, tt.rate, c.Rate.Round(-d(tt.rate).Exponent()).String())
		assert.Equal(t, "1 "+tt.from+" = "+tt.rate+" "+tt.to, c.Direction)
		assert.Equal(t, []any{"2026-11-25", 2, "Regatta bank"}, []any{c.Dated, c.AgeDays, c.Source})
		minor, _ := almanac.MinorUnitsOf(tt.to)
		assert.LessOrEqual(t, int(-c.To.Value.Exponent()), minor)
	}
	table := r.Table("EUR", map[string]Ending{"JPY": ending, "EUR": ending})
	assert.Len(t, table, len(r.Of))
	assert.Equal(t, "1 EUR = 161.25 JPY", *table["JPY"].Direction)
	assert.Equal(t, "x00", *table["JPY"].Ending)
	assert.Nil(t, table["EUR"].Direction, "one and the same")
	assert.Nil(t, table["EUR"].Ending, "own prices stand as they are")
	assert.Empty(t, r.Table("CHF", nil), "there is no rate of it")
	_, err = r.Convert(d("1"), "EUR", "CHF", Ending{}, "en", now)
	assert.ErrorIs(t, err, ErrRates)
	assert.ErrorContains(t, err, "the rates of 2026-11-25 have none for CHF")
	_, err = Rates{}.Convert(d("1"), "EUR", "EUR", Ending{}, "en", now)
	assert.ErrorContains(t, err, "there are no rates")
}

// Amounts are rounded once: held against fractions, of any amounts and rates.
func TestConversionsAgreeWithFractions(t *testing.T) {
	r := rand.New(rand.NewPCG(33, 3))
	number := func(most int64, places int32) decimal.Decimal {
		return decimal.New(1+r.Int64N(most), -r.Int32N(places+1))
	}
	currencies := []string{"GBP", "CHF", "JPY", "KWD", "CLF", "USD"}
	half := big.NewRat(1, 2)
	for range 20_000 {
		rates := Rates{Base: "EUR", Of: map[string]decimal.Decimal{"EUR": decimal.New(1, 0)}}
		for _, code := range currencies {
			rates.Of[code] = number(9_999_999, 7)
		}
		from, to, value := currencies[r.IntN(len(currencies))], currencies[r.IntN(len(currencies))], number(999_999_999_999, 4)
		c, err := rates.Convert(value, from, to, Ending{}, "en", time.Now())
		require.NoError(t, err)
		minor, _ := almanac.MinorUnitsOf(to)
		want := new(big.Rat).Mul(value.Rat(), rates.Of[to].Rat())
		want.Quo(want, rates.Of[from].Rat())
		units := new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(minor)), nil))
		want.Mul(want, units).Add(want, half) // halves go up; there are no negative ones here
		whole := new(big.Rat).SetInt(new(big.Int).Quo(want.Num(), want.Denom()))
		require.Zero(t, whole.Quo(whole, units).Cmp(c.To.Value.Rat()), "%s %s are not %s %s, by %s and %s", value, from, c.To.Value, to, rates.Of[from], rates.Of[to])
	}
}
