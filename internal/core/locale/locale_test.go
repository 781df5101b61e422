package locale

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
)

func TestNegotiate(t *testing.T) {
	swiss, _ := almanac.ByCode("CH")
	egypt, _ := almanac.ByCode("EG")
	tests := []struct {
		name, header string
		country      *almanac.Country
		want, reason string
		direction    string
	}{
		{"the visitor's choice wins", "fi-FI,en;q=0.5", swiss, "fi-FI", "accept-language", "ltr"},
		{"q decides, not the order", "en;q=0.2, fr-CH", swiss, "fr-CH", "accept-language", "ltr"},
		{"q=0 is refused", "en;q=0", egypt, "ar-EG", "country", "rtl"},
		{"else the country", "", egypt, "ar-EG", "country", "rtl"},
		{"a wildcard says nothing", "*", egypt, "ar-EG", "country", "rtl"},
		{"else English", "", nil, "en", "default", "ltr"},
		{"an overlong header counts as absent", strings.Repeat("fi,", 5000), nil, "en", "default", "ltr"},
		{"an unreadable header counts as absent", "\x00;;q=x", nil, "en", "default", "ltr"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			l := Negotiate(tt.header, tt.country)
			assert.Equal(t, tt.want, l.Language)
			assert.Equal(t, tt.reason, l.Reason)
			assert.Equal(t, tt.direction, l.Direction)
			assert.Equal(t, tt.want, l.Offered[0])
		})
	}
	assert.Subset(t, Negotiate("", swiss).Offered, []string{"de-CH", "fr-CH", "it-CH"}, "a country offers all its languages")
}

func TestClockAt(t *testing.T) {
	now := time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC)
	zone := func(s string) *string { return &s }
	c := ClockAt(zone("Europe/Lisbon"), now)
	require.NotNil(t, c.LocalTime)
	assert.Equal(t, "2026-11-14T06:42:08+00:00", *c.LocalTime)
	assert.Equal(t, "+00:00", *c.UTCOffset)
	assert.Equal(t, "2027-03-28T01:00:00Z", *c.NextChange)
	kolkata := ClockAt(zone("Asia/Kolkata"), now)
	assert.Equal(t, "+05:30", *kolkata.UTCOffset)
	assert.Nil(t, kolkata.NextChange, "no change is planned there")
	assert.Equal(t, Clock{}, ClockAt(nil, now))
	assert.Equal(t, Clock{}, ClockAt(zone("Nowhere/Atlantis"), now))
}

func TestMoneyOf(t *testing.T) {
	japan, _ := almanac.ByCode("JP")
	assert.Equal(t, "JPY", *MoneyOf(japan).CurrencyCode)
	assert.Zero(t, *MoneyOf(japan).MinorUnits)
	assert.Equal(t, Money{}, MoneyOf(nil))
	antarctica, _ := almanac.ByCode("AQ")
	assert.Nil(t, MoneyOf(antarctica).CurrencyCode)
}
