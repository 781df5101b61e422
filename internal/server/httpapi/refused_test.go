package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/server/access"
	"eastporch/internal/server/refused"
)

// refusedRows keep refused requests in memory.
type refusedRows struct {
	mu       sync.Mutex
	counts   map[refused.Slot]int64
	examples map[refused.Key]refused.Kept
}

func (r *refusedRows) AddRefused(_ context.Context, counts map[refused.Slot]int64, examples map[refused.Key]refused.Example) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.counts == nil {
		r.counts, r.examples = map[refused.Slot]int64{}, map[refused.Key]refused.Kept{}
	}
	for at, n := range counts {
		r.counts[at] += n
	}
	for of, e := range examples {
		kept, known := r.examples[of]
		if kept.Example = e; !known {
			kept.First = e.Time
		}
		r.examples[of] = kept
	}
	return nil
}

func (r *refusedRows) Refused(context.Context, time.Time) (map[refused.Slot]int64, map[refused.Key]refused.Kept, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.counts, r.examples, nil
}

// What is refused before anything is made of it is counted by reason, with an example that tells nothing of a visitor and
// the line that mends it; and the page that asked can read why.
func TestRefusedRequestsLeaveATrace(t *testing.T) {
	f, public, admin := withGates(t, early)
	page, owner := f.key(t, access.Page, "https://heronlake.example"), f.key(t, access.Admin)
	const stranger = "https://shop.heronlake.example"
	visit := `{"site":"heronlake.example","path":"/tickets"}`

	preflight := ask(public, "", http.MethodOptions, "/v1/visits", "", "Origin", stranger, "Access-Control-Request-Method", "POST")
	assert.Equal(t, http.StatusNoContent, preflight.status, "the request itself says why it is refused")
	for range 3 {
		no := ask(public, page, http.MethodPost, "/v1/visits", visit, "Origin", stranger, "X-Forwarded-For", inPortugal, "User-Agent", "Firefox of a visitor")
		refusedAs(t, no, http.StatusForbidden, "origin")
		assert.Equal(t, stranger, no.header.Get("Access-Control-Allow-Origin"), "so that its console can show the reason")
	}
	unknown := ask(public, "porch_page_abcdefghijklmnopqrstuvwxyz", http.MethodPost, "/v1/visits", visit, "Origin", "https://heronlake.example")
	refusedAs(t, unknown, http.StatusUnauthorized, "invalid-key")
	assert.Equal(t, "https://heronlake.example", unknown.header.Get("Access-Control-Allow-Origin"))
	refusedAs(t, ask(public, "", http.MethodGet, "/v1/visitor", ""), http.StatusUnauthorized, "authentication-required")
	refusedAs(t, ask(public, page, http.MethodGet, "/v1/visitor", "", "Host", "www.heronlake.example"), http.StatusMisdirectedRequest, "wrong-host")
	refusedAs(t, ask(public, page, http.MethodGet, "/v1/gate/decide", ""), http.StatusUnauthorized, "scope")
	refusedAs(t, ask(public, page, http.MethodPost, "/v1/visits", visit, "Origin", "http://198.18.3.40:8000"), http.StatusForbidden, "origin")
	ask(admin, "", http.MethodGet, "/v1/keys", "") // the console before anybody has signed in

	got := read[api.RefusedRequests](t, ask(admin, owner, http.MethodGet, "/v1/refused-requests", ""), http.StatusOK)
	by := map[string]api.RefusedKind{}
	for _, r := range got.Refused {
		by[r.Kind+" "+r.Detail] = r
	}
	require.Len(t, got.Refused, 6, "%+v", got.Refused)
	assert.EqualValues(t, 8, got.LastHour)
	origin := by["origin "+stranger]
	assert.EqualValues(t, 3, origin.LastHour)
	assert.EqualValues(t, 3, origin.Hour[11])
	assert.EqualValues(t, 3, origin.Day[23])
	assert.Equal(t, got.Refused[0], origin, "what came most stands first")
	assert.Equal(t, "If shop.heronlake.example is yours", origin.Question)
	assert.Equal(t, []string{`eastporch keys create "shop.heronlake.example" --scope page --site heronlake.example --origin https://shop.heronlake.example`}, origin.Lines)
	assert.Contains(t, origin.Text, "allows https://heronlake.example, not this one")
	assert.Equal(t, []string{"eastporch keys create NAME --scope page --site heronlake.example --origin https://heronlake.example"}, by["key porch_page_abcd"].Lines)
	assert.Equal(t, []string{"public:", "  hosts: [in.heronlake.example, www.heronlake.example]"}, by["host www.heronlake.example"].Lines)
	assert.Contains(t, by, "origin http://(an address)", "an origin that is an address is masked")
	assert.Empty(t, by["origin http://(an address)"].Lines)
	assert.Contains(t, by, "no_key /v1/visitor")
	text := ask(admin, owner, http.MethodGet, "/v1/refused-requests", "").body
	for _, secret := range []string{inPortugal, "Firefox", "/tickets", page, "198.18.3.40", "abcdefgh"} {
		assert.NotContains(t, text, secret)
	}
	checkup := ask(admin, owner, http.MethodGet, "/v1/checkup", "").body
	assert.Contains(t, checkup, "Refused in the last hour: origin not listed (3).")
	assert.Contains(t, checkup, "eastporch keys create")

	// However many strangers ask as something else, memory and list are bounded, and nothing is lost of the sum.
	for i := range 500 {
		ask(public, page, http.MethodPost, "/v1/visits", visit, "Origin", fmt.Sprintf("https://%d.evil.example", i))
	}
	many := read[api.RefusedRequests](t, ask(admin, owner, http.MethodGet, "/v1/refused-requests", ""), http.StatusOK)
	assert.Less(t, len(many.Refused), 80)
	assert.EqualValues(t, 508, many.LastHour)
}
