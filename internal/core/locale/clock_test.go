package locale

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestClockAt(t *testing.T) {
	clocks := NewClocks()
	now := time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC) // a Saturday
	zone := func(s string) *string { return &s }
	c := clocks.At(zone("Europe/Lisbon"), now, UsualHours, nil)
	require.False(t, c.LocalTime.IsZero())
	assert.Equal(t, "2026-11-14T06:42:08+00:00", c.LocalTime.String())
	assert.Equal(t, "+00:00", *c.UTCOffset)
	assert.Equal(t, "2027-03-28T01:00:00Z", c.NextChange.Format(time.RFC3339))
	assert.False(t, *c.BusinessHours)
	kolkata := clocks.At(zone("Asia/Kolkata"), now, UsualHours, nil)
	assert.Equal(t, "+05:30", *kolkata.UTCOffset)
	assert.Nil(t, kolkata.NextChange, "no change is planned there")
	assert.Equal(t, Clock{}, clocks.At(nil, now, UsualHours, nil))
	for _, none := range []string{"Nowhere/Atlantis", "Local", "", "../../etc/passwd"} {
		assert.Equal(t, Clock{}, clocks.At(zone(none), now, UsualHours, nil), none)
	}
}

// The rule that is remembered is left when its time is over, both ways.
func TestClockAtChanges(t *testing.T) {
	clocks, lisbon := NewClocks(), "Europe/Lisbon"
	loc, err := LoadZone(lisbon)
	require.NoError(t, err)
	at := time.Date(2027, 3, 28, 0, 59, 59, 0, time.UTC)
	for i := range 500 {
		now := at.Add(time.Duration((i*7919)%400-200) * 24 * time.Hour).Add(time.Duration(i) * time.Second)
		c := clocks.At(&lisbon, now, UsualHours, nil)
		assert.Equal(t, now.In(loc).Format("2006-01-02T15:04:05-07:00"), c.LocalTime.String())
	}
	assert.Equal(t, "2027-03-28T00:59:59+00:00", clocks.At(&lisbon, at, UsualHours, nil).LocalTime.String())
	assert.Equal(t, "2027-03-28T02:00:00+01:00", clocks.At(&lisbon, at.Add(time.Second), UsualHours, nil).LocalTime.String())
}

func TestHours(t *testing.T) {
	egypt := country(t, "EG") // its weekend is Friday and Saturday
	h, err := ParseHours("08:30-17:00")
	require.NoError(t, err)
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 11, day, hour, minute, 0, 0, time.UTC) }
	assert.False(t, h.On(at(16, 8, 29), nil))
	assert.True(t, h.On(at(16, 8, 30), nil), "a Monday")
	assert.True(t, h.On(at(16, 16, 59), nil))
	assert.False(t, h.On(at(16, 17, 0), nil), "the end is not included")
	assert.False(t, h.On(at(15, 12, 0), nil), "a Sunday")
	assert.True(t, h.On(at(15, 12, 0), egypt), "a working Sunday")
	assert.False(t, h.On(at(13, 12, 0), egypt), "a free Friday")
	assert.Equal(t, "08:30-17:00", h.String())
	whole, err := ParseHours("00:00-24:00")
	require.NoError(t, err)
	assert.True(t, whole.On(at(16, 23, 59), nil))
	for _, bad := range []string{"", "9-17", "17:00-09:00", "09:00-25:00", "09:60-17:00", "09:00", "a:b-c:d", "09:00-09:00"} {
		_, err := ParseHours(bad)
		assert.ErrorIs(t, err, ErrHours, bad)
	}
}

func TestInstantAt(t *testing.T) {
	start := time.Date(2027, 6, 12, 8, 0, 0, 0, time.UTC) // the first race
	tests := []struct{ zone, tag, text string }{
		{"Europe/Lisbon", "pt-PT", "sábado, 12 de junho de 2027 às 09:00"},
		{"America/Sao_Paulo", "pt-BR", "sábado, 12 de junho de 2027 às 05:00"},
		{"Asia/Tokyo", "ja", "2027年6月12日土曜日 17:00"},
		{"America/Toronto", "en-CA", "Saturday, June 12, 2027 at 4:00 a.m."},
		{"America/Toronto", "fr-CA", "samedi 12 juin 2027 à 04 h 00"},
		{"Africa/Cairo", "ar-EG", "السبت، ١٢ يونيو ٢٠٢٧ في ١١:٠٠ ص"},
		{"Europe/Oslo", "nb", "lørdag 12. juni 2027 kl. 10:00"},
		{"Europe/Oslo", "xx", "Saturday, June 12, 2027 at 10:00 AM"},
	}
	for _, tt := range tests {
		i, err := InstantAt(start, tt.zone, tt.tag)
		require.NoError(t, err)
		plain := []rune{}
		for _, r := range i.Text { // kinds of spaces differ between releases
			if r == '\u202f' || r == '\u00a0' {
				r = ' '
			}
			plain = append(plain, r)
		}
		assert.Equal(t, tt.text, string(plain), tt.tag)
		assert.Equal(t, "2027-06-12T08:00:00Z", i.Instant)
	}
	_, err := InstantAt(start, "Europe/Atlantis", "en")
	assert.ErrorContains(t, err, "not a time zone, such as")
}

// Every locale writes every hour without leaving a letter of a pattern behind.
func TestFormatTimeInEveryLocale(t *testing.T) {
	at := time.Date(2027, 6, 12, 13, 5, 0, 0, time.UTC)
	for tag := range habitTables() {
		text := FormatTime(at, tag)
		assert.NotContains(t, text, "{", tag)
		assert.NotContains(t, text, "EEE", tag)
		assert.NotContains(t, text, "MMM", tag)
		assert.NotEqual(t, text, FormatTime(at.Add(time.Minute), tag), tag)
		assert.NotEqual(t, text, FormatTime(at.AddDate(0, 1, 0), tag), tag)
	}
}
