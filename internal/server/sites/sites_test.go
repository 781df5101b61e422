package sites

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/invalid"
)

func TestSitesKeepTheirOrderAndAreFoundByHost(t *testing.T) {
	s := New(Site{Host: "heronlake.example"}, Site{Host: "harbour.example"})
	require.Len(t, s.All(), 2)
	assert.Equal(t, "heronlake.example", s.All()[0].Host)
	assert.Same(t, s.All()[1], s.Of("harbour.example"))
	assert.Nil(t, s.Of("HARBOUR.example"), "hosts are in one form before they come here")
	found, err := s.Find("heronlake.example")
	require.NoError(t, err)
	assert.Same(t, s.All()[0], found)
}

func TestAnUnknownSiteIsToldWhichThereAre(t *testing.T) {
	_, err := New(Site{Host: "heronlake.example"}, Site{Host: "harbour.example"}).Find("lake.example")
	var wrong *invalid.FieldError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, "site", wrong.Field)
	assert.Contains(t, wrong.Reason, "lake.example")
	assert.Equal(t, "Configured are heronlake.example, harbour.example.", wrong.Hint)
}
