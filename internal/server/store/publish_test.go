package store

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
)

// TestEveryFactIsPublished compares what SQL answers with the facts: their names, their types, and what they say.
func TestEveryFactIsPublished(t *testing.T) {
	s := open(t)
	span, err := addr.ParseRange("198.18.40.0/24")
	require.NoError(t, err)
	w := atlas.Nowhere("made up")
	w.Level, w.ContinentCode, w.CountryCode, w.RegionCode, w.City = atlas.City, ptr("AF"), ptr("KE"), ptr("KE-30"), ptr("Nairobi")
	w.PostalCode, w.Latitude, w.Longitude, w.RadiusKm, w.TimeZone = ptr("00100"), ptr(-1.29), ptr(36.82), ptr(35.0), ptr("Africa/Nairobi")
	said := atlas.LookupResult{Location: w, Network: atlas.Network{ASNumber: ptr(uint32(64507)), Operator: ptr("Savanna")}}
	terms := Terms{Policy: []Policy{{Prefix: netip.MustParsePrefix("0.0.0.0/0")}}}
	_, err = s.Publish(t.Context(), "made up", terms, func(yield func(addr.Range, atlas.LookupResult) bool) { yield(span, said) })
	require.NoError(t, err)

	published := 0
	for i := range atlas.Facts {
		f := &atlas.Facts[i]
		if f.Column == "" {
			continue
		}
		published++
		var kind, kept, text string
		require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT pg_typeof(w.`+f.Name+`)::text, pg_typeof(r.`+f.Name+`)::text, w.`+f.Name+`::text
			FROM locate('198.18.40.7') w, atlas_range r`).Scan(&kind, &kept, &text), f.Name)
		assert.Equal(t, f.Column, kind, f.Name)
		assert.Equal(t, f.Column, kept, f.Name)
		assert.Equal(t, f.Text(&said.Location, &said.Network), text, f.Name)
	}
	var columns int
	require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM information_schema.columns WHERE table_name = 'atlas_range'`).Scan(&columns))
	assert.Equal(t, published+4, columns, "first, last, level, labels and every fact")
}
