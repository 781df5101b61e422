package answers

import (
	"maps"
	"net/http"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

// pathsOf are the paths of everything that stands in JSON.
func pathsOf(v any, before string, into map[string]bool) {
	switch v := v.(type) {
	case map[string]any:
		for name, below := range v {
			path := name
			if before != "" {
				path = before + "." + name
			}
			into[path] = true
			pathsOf(below, path, into)
		}
	case []any:
		for _, one := range v {
			pathsOf(one, before, into)
		}
	}
}

// A path that leads to something in one card leads to null in the others, and a visit is taken whatever its page
// would like to read.
func TestEveryPathAnswersForEveryCard(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"limits.key_per_second": 1_000_000})
	live.WithWeather(t, s)
	addresses := []string{"198.18.3.40", "198.18.7.114", "198.51.100.7", "203.0.113.4", "10.1.2.3", "3fff::1", "127.0.0.1", "2001:db8:78:bf25::1", "192.0.2.200", "64:ff9b::198.18.3.40"}
	paths := map[string]bool{}
	for _, address := range addresses {
		whole := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/"+address+"?site=heronlake.example", "")
		require.Equal(t, http.StatusOK, whole.Status, whole.Body)
		pathsOf(live.Parse[any](t, whole), "", paths)
	}
	require.Contains(t, paths, "location.missing.city")
	require.Contains(t, paths, "evidence.values.region_code")
	asked := 0
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		for _, address := range addresses {
			got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/"+address+"?site=heronlake.example&fields="+path, "")
			assert.Equal(t, http.StatusOK, got.Status, "%s of %s: %s", path, address, got.Body)
			asked++
		}
	}
	t.Logf("%d paths of %d cards: %d answers", len(paths), len(addresses), asked)
	for _, path := range []string{"location.missing.town", "location.missing.missing", "network.missing.city", "nonsense", "location.city.x.y"} {
		got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/10.1.2.3?fields="+path, "")
		if path != "location.city.x.y" { // what is absent has no parts
			assert.Equal(t, http.StatusUnprocessableEntity, got.Status, "%s: %s", path, got.Body)
		}
	}

	// Somebody who is located, and somebody who is not, from a page that shows why.
	before := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/state", "")
	for _, fields := range []string{"location.names.city,location.missing.city", "location.nonsense"} {
		for _, visitor := range []string{"198.18.3.40", "203.0.113.99"} {
			got := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits?fields="+fields, live.VisitBody("203.0.113.4", visitor), "Prefer: wait=15")
			want := http.StatusCreated
			if fields == "location.nonsense" {
				want = http.StatusUnprocessableEntity
				assert.Contains(t, got.Said(t), "the visit itself was taken")
			}
			assert.Equal(t, want, got.Status, got.Body)
		}
	}
	_, list := s.Stored(t, 4)
	assert.Len(t, list, 4, "%s", before.Body)
}
