package localize

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/locale"
	"eastporch/internal/server/rates"
)

var now = time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC)

// feed has the rates that a test gives it, and others each time it is asked.
type feed struct {
	states []rates.State
	asked  int
	stale  bool
}

func (f *feed) State() rates.State {
	f.asked++
	return f.states[min(f.asked, len(f.states))-1]
}

func (f *feed) Stale(time.Time) bool { return f.stale }

type noAtlas struct{ *atlas.Atlas }

func (a noAtlas) Current() *atlas.Atlas { return a.Atlas }

func table(t *testing.T, norway string) locale.Rates {
	t.Helper()
	r, err := locale.ReadRates(strings.NewReader("date,base,currency,rate\n2026-11-05,EUR,NOK,"+norway+"\n2026-11-05,EUR,USD,1.25\n"), "Lake Bank (invented)")
	require.NoError(t, err)
	return r
}

func service(t *testing.T, f *feed) *Localizer {
	t.Helper()
	s, err := New(Options{Cards: &card.Pipeline{Atlas: noAtlas{atlas.New()}}, Rates: f, Groups: almanac.Groups{}, Now: func() time.Time { return now }})
	require.NoError(t, err)
	return s
}

func TestOptionsAreRequired(t *testing.T) {
	_, err := New(Options{})
	require.Error(t, err)
}

// Every verdict on the rates, on set-ups that are wrong: fine is only said of rates that are.
func TestTheVerdictOnRates(t *testing.T) {
	good := table(t, "11.5")
	for name, c := range map[string]struct {
		state      rates.State
		stale      bool
		none       bool
		says, more string
	}{
		"none are wanted":         {none: true},
		"never read":              {state: rates.State{Problem: "connection refused"}, says: "The exchange rates could not be read.", more: "Connection refused."},
		"fine":                    {state: rates.State{Rates: good}, says: "The exchange rates are recent."},
		"a day too old":           {state: rates.State{Rates: locale.Rates{Base: "EUR", Dated: time.Date(2026, 11, 13, 0, 0, 0, 0, time.UTC)}}, stale: true, says: "The exchange rates are one day old.", more: "rates.stale_days"},
		"old":                     {state: rates.State{Rates: good}, stale: true, says: "The exchange rates are 9 days old.", more: "rates.stale_days"},
		"old, and not read again": {state: rates.State{Rates: good, Problem: "not found"}, stale: true, says: "The exchange rates are 9 days old.", more: "The last reading failed: not found."},
		"recent, not read again":  {state: rates.State{Rates: good, Problem: "not found"}, says: "The exchange rates could not be read again.", more: "Those of 2026-11-05 stand. Not found."},
	} {
		f, ok := service(t, &feed{states: []rates.State{c.state}, stale: c.stale}).CheckRates()
		require.Equal(t, !c.none, ok, name)
		if c.none {
			continue
		}
		assert.Equal(t, c.says, f.Title, name)
		assert.Contains(t, f.Text, c.more, name)
		assert.Equal(t, name == "fine", f.State == checkup.OK, name)
	}
}

// The rates may change while amounts are converted: all are converted by the same.
func TestAmountsOfOneRequestAreConvertedByOneTable(t *testing.T) {
	f := &feed{states: []rates.State{{Rates: table(t, "10")}, {Rates: table(t, "20")}}}
	answer, err := service(t, f).Convert(Exchange{Amounts: []string{"1", "1", "1"}, From: "EUR", To: "NOK", Language: "en"}, nil)
	require.NoError(t, err)
	for _, c := range answer.Conversions {
		assert.Equal(t, answer.Conversions[0], c)
	}
}

func TestWhatCannotBeConvertedNamesTheField(t *testing.T) {
	s := service(t, &feed{states: []rates.State{{Rates: table(t, "10")}}})
	for field, x := range map[string]Exchange{
		"from":   {Amounts: []string{"1"}, To: "NOK"},
		"to":     {Amounts: []string{"1"}, From: "EUR", To: "kroner"},
		"amount": {Amounts: []string{"1,5"}, From: "EUR", To: "NOK"},
	} {
		_, err := s.Convert(x, nil)
		var wrong *invalid.FieldError
		require.ErrorAs(t, err, &wrong, field)
		assert.Equal(t, field, wrong.Field)
	}
	for _, n := range []int{0, maxAmounts + 1} {
		_, err := s.Convert(Exchange{Amounts: make([]string, n), From: "EUR", To: "NOK"}, nil)
		require.Error(t, err)
	}
}

func TestSomebodyIsDescribedByOneOfAddressAndCountry(t *testing.T) {
	s := service(t, &feed{states: []rates.State{{}}})
	for field, of := range map[string]Subject{
		"country_code": {CountryCode: "XX"},
		"address":      {CountryCode: "PT", Address: "198.18.3.40"},
		"at":           {CountryCode: "PT", At: "noon"},
		"time_zone":    {CountryCode: "PT", TimeZone: "Europe/Atlantis"},
	} {
		_, err := s.Locale(of, card.RequestContext{})
		var wrong *invalid.FieldError
		require.ErrorAs(t, err, &wrong, field)
		assert.Equal(t, field, wrong.Field)
	}
	answer, err := s.Locale(Subject{CountryCode: "NO", At: "2027-06-12T10:00:00Z"}, card.RequestContext{})
	require.NoError(t, err)
	assert.Equal(t, "Europe/Oslo", *answer.Clock.TimeZone)
	assert.Equal(t, "NOK", *answer.Money.CurrencyCode)
	require.NotNil(t, answer.At)
}

func TestCountriesAreThoseThatWereAskedFor(t *testing.T) {
	s := service(t, &feed{states: []rates.State{{}}})
	all, err := s.Countries("en", "", "")
	require.NoError(t, err)
	require.Len(t, all.Countries, len(almanac.All()))
	sum := 0
	for _, continent := range []string{"AF", "AN", "AS", "EU", "NA", "OC", "SA"} {
		some, err := s.Countries("en", "", continent)
		require.NoError(t, err)
		require.NotEmpty(t, some.Countries, continent)
		sum += len(some.Countries)
	}
	assert.Equal(t, len(all.Countries), sum, "each is of one continent")
	for _, wrong := range [][2]string{{"nobody", ""}, {"", "XX"}} {
		_, err := s.Countries("en", wrong[0], wrong[1])
		require.Error(t, err)
	}
}
