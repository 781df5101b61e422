package companions

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A town is meant without its country where no other of its name is nearly as large.
func TestTheTownThatIsMeant(t *testing.T) {
	for _, tt := range []struct{ name, country, is string }{
		{"Lisbon", "", "PT"}, {"Lisboa", "", "PT"}, {"Oslo", "", "NO"}, {"東京", "", "JP"}, {"Lisbon", "US", "US"}, {"München", "DE", "DE"},
	} {
		town, err := meant(tt.name, tt.country)
		require.NoError(t, err, tt.name)
		assert.Equal(t, tt.is, town.Country, tt.name)
	}
	for _, tt := range []struct{ name, country, says string }{
		{"San José", "", "say in which country"}, {"Atlantis-on-Sea", "", "neither an address nor a town"}, {"Oslo", "PT", "no town that is known in PT"},
	} {
		_, err := meant(tt.name, tt.country)
		assert.ErrorContains(t, err, tt.says)
	}
}
