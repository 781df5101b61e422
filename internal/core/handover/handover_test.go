package handover

import (
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/variant"
)

var lisbon = Facts{
	"PT", "PT-11", "pt-PT", "EUR", "Europe/Lisbon",
	variant.Choices{"pictures": "lake", "offer": "early"},
	Admitted,
	atlas.Names{City: ptr("São \"Paulo\" 100%"), Country: ptr("Brasil")},
	ptr(-23.5475), ptr(-46.63611), ptr(25.0),
}

func ptr[T any](v T) *T { return &v }

func TestCookie(t *testing.T) {
	key, now := []byte("a key of the owner's"), time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	value := Sign(lisbon, key, now.Add(15*time.Minute))
	assert.Regexp(t, `^[A-Za-z0-9_-]+\.[A-Za-z0-9_-]{43}$`, value, "it stands in a cookie as it is (RFC 6265)")
	got, err := Open(value, key, now)
	require.NoError(t, err)
	assert.Equal(t, lisbon, got)

	_, err = Open(value, key, now.Add(15*time.Minute))
	assert.ErrorContains(t, err, "its time is over")
	_, err = Open(value, []byte("another key"), now)
	assert.ErrorIs(t, err, ErrCookie)
	for i := range value { // whatever letter is changed
		other := value[:i] + string(rune('A'+(value[i]+1)%26)) + value[i+1:]
		if other == value {
			continue
		}
		_, err := Open(other, key, now)
		assert.ErrorIs(t, err, ErrCookie, "letter %d", i)
	}
	for _, bad := range []string{"", ".", "a.b", value + value, strings.Repeat("a", 10_000), Sign(lisbon, nil, now.Add(time.Hour))} {
		_, err := Open(bad, key, now)
		assert.ErrorIs(t, err, ErrCookie)
	}
}

func TestValues(t *testing.T) {
	assert.Equal(t, []string{"PT", "PT-11", "pt-PT", "EUR", "Europe/Lisbon", "offer=early, pictures=lake", "admit", `country=%"Brasil", city=%"S%c3%a3o %22Paulo%22 100%25"`, "S%C3%A3o%20%22Paulo%22%20100%25", "-23.5475", "-46.63611", "25"}, lisbon.Values())
	assert.Len(t, lisbon.Values(), len(Fields))
	nobody := Of(&card.Card{})
	assert.Equal(t, []string{"", "", "", "", "", "", "admit", "", "", "", "", ""}, nobody.Values(), "what is not known is left out")
	for _, name := range Fields {
		assert.True(t, Forged(name))
	}
}

func TestForged(t *testing.T) {
	for _, name := range []string{"Porch-Gate", "porch_gate", "PORCH.Unheard.Of", "Porch~X", "X_Forwarded_For", "x-forwarded.for", "X_Real-IP"} {
		assert.True(t, Forged(name), name)
	}
	for _, name := range []string{"Porch", "Porchlight", "Porch2-X", "X-Forwarded-For", "x-real-ip", "Forwarded", "X-Forwarded-Proto", "Accept", ""} {
		assert.False(t, Forged(name), name)
	}
}

// Whatever a town is called, the field is plain ASCII that every library for URLs reads back.
func TestTheCityIsReadBack(t *testing.T) {
	for _, city := range []string{"São Paulo", "L'Aquila", `Rum "Jungle"`, "北京", "a/b?c#d&e=f%25", "a\r\nPorch-Gate: x", "Ľubľ~-._", strings.Repeat("a", 256)} {
		f := Facts{Names: atlas.Names{City: &city}}
		value := f.Values()[8]
		assert.Regexp(t, `^[A-Za-z0-9._~%-]{1,256}$`, value)
		back, err := url.PathUnescape(value)
		require.NoError(t, err)
		assert.Equal(t, city, back)
	}
	long := strings.Repeat("é", 43)
	assert.Empty(t, Facts{Names: atlas.Names{City: &long}}.Values()[8], "more than 256 bytes are left out, not cut")
	assert.Equal(t, []string{"0", "-0.000001", "1"}, Facts{Latitude: ptr(0.0), Longitude: ptr(-1e-6), RadiusKm: ptr(1.0)}.Values()[9:], "plain numbers")
}
