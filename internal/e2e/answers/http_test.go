package answers

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

func TestTheVisitorBehindAProxy(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	const forwarded = "X-Forwarded-For: 198.18.3.40"
	trusted := s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/visitor/address", "", forwarded)
	assert.Equal(t, "198.18.3.40\n", trusted.Body)
	untrusted := s.Call(t, "127.0.0.9", http.MethodGet, s.PublicURL+"/v1/visitor/address", "", forwarded)
	assert.Equal(t, "127.0.0.9\n", untrusted.Body)

	trail := s.Call(t, "127.0.0.9", http.MethodPost, s.AdminURL+"/v1/trails", "", forwarded)
	assert.Contains(t, trail.At(t, "notes.0"), "which is not a trusted proxy: it was ignored")
	card := s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/visitor", "", forwarded, "Accept-Language: fi, ja;q=0.5")
	assert.Equal(t, "private, no-store", card.Header.Get("Cache-Control"))
	assert.Equal(t, "Lisbon", card.At(t, "location.city"))
	assert.Equal(t, "ja", card.At(t, "locale.language"), "Finnish is not offered")

	lost := s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/visitor/address", "", "X-Forwarded-For: unknown")
	assert.Equal(t, http.StatusNotFound, lost.Status)
	assert.Contains(t, lost.Header.Get("Content-Type"), "application/problem+json")
}

func TestPrivateAddressesHaveReasons(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/10.1.2.3", "")
	var card struct {
		Address  struct{ Kind string }
		Location struct {
			Level   string
			Missing map[string]string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(got.Body), &card))
	assert.Equal(t, "private", card.Address.Kind)
	assert.Equal(t, "none", card.Location.Level)
	for _, fact := range []string{"continent_code", "country_code", "region_code", "city", "postal_code", "latitude", "longitude", "radius_km", "time_zone"} {
		assert.NotEmpty(t, card.Location.Missing[fact], fact)
	}
	v6 := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/2001:db8:5e1:40::1f", "")
	assert.Equal(t, "Oslo", v6.At(t, "location.city"))
}

func TestAVisitIsStoredAndReadBack(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	made := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", live.VisitBody("203.0.113.4", "198.18.7.114, 203.0.113.10"), "Prefer: return=representation")
	require.Equal(t, http.StatusAccepted, made.Status, made.Body)
	assert.Equal(t, "return=representation", made.Header.Get("Preference-Applied"))
	var stored struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(made.Body), &stored))
	one := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/"+stored.ID, "")
	assert.Equal(t, []any{"198.18.7.114", "Valencia"}, []any{one.At(t, "card.address.text"), one.At(t, "card.location.city")})

	again := fmt.Sprintf(`{"id":%q,"site":"heronlake.example","path":"/other"}`, stored.ID)
	twice := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", again, "Prefer: wait=10")
	assert.Equal(t, http.StatusConflict, twice.Status)
	assert.Equal(t, "conflict", twice.At(t, "state"))
	one = s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/"+stored.ID, "")
	assert.Equal(t, "/programme", one.At(t, "path"), "the first wins")
	apart := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/quarantine", "")
	assert.Contains(t, apart.At(t, "visits.0.reason"), "other content", "and the other is reported")

	page := s.Call(t, "127.0.0.1", http.MethodPost, s.PublicURL+"/v1/visits", `{"site":"heronlake.example","path":"/map"}`, "X-Forwarded-For: 198.18.3.40", "User-Agent: Mozilla/5.0 Firefox")
	assert.Equal(t, http.StatusAccepted, page.Status, "a page gives no headers: those of the request count")
	report := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/reports/countries?site=heronlake.example", "")
	for _, row := range live.Parse[struct {
		Rows []struct {
			Name  string
			Share float64
		}
	}](t, report).Rows {
		assert.Contains(t, []string{"Portugal", "Spain"}, row.Name)
		assert.InDelta(t, 0.5, row.Share, 0)
	}
}

func TestTruncatedIsTheDefault(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"sites": []any{map[string]any{"host": "quiet.example"}}})
	body := strings.Replace(live.VisitBody("203.0.113.4", "192.0.2.77, 198.18.7.114, 203.0.113.10"), "heronlake.example", "quiet.example", 1)
	made := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", body, "Prefer: return=representation")
	require.Equal(t, http.StatusAccepted, made.Status, made.Body)
	list := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=quiet.example", "")
	assert.Equal(t, []any{"198.18.7.0", "198.18.7.0"}, []any{made.At(t, "visit.card.address.text"), list.At(t, "visits.0.card.address.text")})
	for _, text := range []string{made.Body, list.Body} {
		for _, secret := range []string{"198.18.7.114", "192.0.2.77", "203.0.113.10", "203.0.113.4"} {
			assert.NotContains(t, text, secret)
		}
	}
}

func TestBadInputIsAProblem(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	future := "ffffffff-0000-7000-8000-000000000000"
	tests := []struct {
		name, method, path, body string
		status                   int
		says                     string
	}{
		{"no address", "GET", "/v1/addresses/abc", "", 400, "write it like"},
		{"an address with an encoded slash", "GET", "/v1/addresses/10.0.0.0%2F8", "", 400, "10.0.0.0/8"},
		{"an unknown site", "POST", "/v1/visits", `{"site":"x","path":"/"}`, 422, "heronlake.example"},
		{"no path", "POST", "/v1/visits", `{"site":"heronlake.example"}`, 422, "path: it is missing"},
		{"a long path", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/` + strings.Repeat("x", 10_000) + `"}`, 422, "2048 are allowed"},
		{"NUL in a path", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/\u0000"}`, 422, "control character"},
		{"an unknown field", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/","adress":"1"}`, 422, "adress: this field is not known: did you mean address?"},
		{"a wrong type", "POST", "/v1/visits", `{"site":1,"path":"/"}`, 422, "site: expected a string, got a number"},
		{"a list for a text", "POST", "/v1/visits", `{"site":["a"],"path":"/"}`, 422, "site: expected a string, got an array"},
		{"a number for a header", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/","peer":"::1","headers":{"A":7}}`, 422, "headers.A: expected a string or an array of strings, got a number"},
		{"a text for yes or no", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/","test":"no"}`, 422, "test: expected a boolean, got a string"},
		{"a number for an object", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/","headers":7}`, 422, "headers: expected an object, got a number"},
		{"no JSON", "POST", "/v1/visits", `{"site"`, 400, "unexpected EOF"},
		{"two values", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/"}{}`, 400, "something follows"},
		{"an empty body", "POST", "/v1/visits", " ", 400, "empty"},
		{"a large body", "POST", "/v1/visits", `{"site":"` + strings.Repeat("x", 1<<20) + `"}`, 413, "1048576 bytes"},
		{"an id of another version", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/","id":"6ba7b810-9dad-41d1-80b4-00c04fd430c8"}`, 422, "version 7"},
		{"an id of the future", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/","id":"` + future + `"}`, 422, "5 minutes ahead"},
		{"headers without a peer", "POST", "/v1/visits", `{"site":"heronlake.example","path":"/","headers":{}}`, 422, "peer"},
		{"an unreadable peer", "POST", "/v1/trails", `{"peer":"999.1.1.1"}`, 422, "peer"},
		{"an unknown visit", "GET", "/v1/visits/6ba7b810-9dad-41d1-80b4-00c04fd430c8", "", 404, "no such visit"},
		{"no id", "GET", "/v1/visits/x", "", 422, "UUID"},
		{"no site", "GET", "/v1/visits", "", 422, "site"},
		{"a country of no code", "GET", "/v1/visits?site=heronlake.example&country_code=UK", "", 422, "did you mean GB?"},
		{"a time of no form", "GET", "/v1/visits?site=heronlake.example&from=yesterday", "", 422, "from"},
		{"a limit too large", "GET", "/v1/visits?site=heronlake.example&limit=501", "", 422, "limit"},
		{"a foreign cursor", "GET", "/v1/visits?site=heronlake.example&cursor=x", "", 422, "cursor"},
		{"a level of no name", "GET", "/v1/reports/places?site=heronlake.example&level=street", "", 422, "level"},
		{"neither true nor false", "GET", "/v1/reports/countries?site=heronlake.example&skipped=maybe", "", 422, "skipped"},
		{"nothing there", "GET", "/v1/nothing", "", 404, "No operation"},
		{"a method that does not fit", "DELETE", "/v1/visits", "", 405, "DELETE"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got := s.Call(t, "127.0.0.1", tt.method, s.AdminURL+tt.path, tt.body)
			assert.Equal(t, tt.status, got.Status, got.Body)
			assert.Equal(t, "application/problem+json", got.Header.Get("Content-Type"))
			var p map[string]any
			require.NoError(t, json.Unmarshal([]byte(got.Body), &p))
			assert.Contains(t, p["detail"].(string)+p["hint"].(string), tt.says)
			assert.Equal(t, got.Header.Get("X-Request-Id"), p["request_id"])
		})
	}
	all := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=heronlake.example", "")
	assert.InDelta(t, 0, all.At(t, "count.all"), 0, "nothing was stored wrongly")
}

func TestThePublicListenerServesNoMoreThanItMust(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	for _, path := range []string{"/", "/v1/visits?site=heronlake.example", "/v1/addresses/198.18.3.40", "/v1/atlas", "/openapi.json", "/assets/x"} {
		got, err := http.Get(s.PublicURL + path) // the contract has no such operation on this listener
		require.NoError(t, err)
		got.Body.Close()
		assert.Contains(t, []int{http.StatusNotFound, http.StatusMethodNotAllowed}, got.StatusCode, path)
		assert.Equal(t, "application/problem+json", got.Header.Get("Content-Type"), path)
	}
}

func TestHostileHeaders(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	for name, list := range map[string]string{"8 KB of commas": strings.Repeat(",", 8<<10), "6,000 hops": strings.Repeat("1.2.3.4,", 6000)} {
		got := s.Call(t, "127.0.0.1", http.MethodPost, s.PublicURL+"/v1/visits", `{"site":"heronlake.example","path":"/"}`, "X-Forwarded-For: "+list)
		assert.Equal(t, http.StatusAccepted, got.Status, "%s: %s", name, got.Body)
	}
	nul := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits",
		`{"site":"heronlake.example","path":"/","peer":"203.0.113.4","headers":{"X-Forwarded-For":["a\u0000b"],"User-Agent":["\u0000<script>"]}}`)
	assert.Equal(t, http.StatusAccepted, nul.Status, nul.Body)
}

func TestHealthAndContractAreServed(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	for path, word := range map[string]string{"/livez": "alive", "/readyz": "ready"} {
		any := "Host: 192.0.2.80:8080" // as load balancers ask
		assert.Equal(t, word+"\n", s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+path, "", live.Anonymous, any).Body, "strangers learn one word")
		admin := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+path, "", live.Anonymous, any)
		assert.Equal(t, word, admin.At(t, "status"))
		assert.NotEmpty(t, admin.At(t, "database"))
		for _, listener := range []string{s.PublicURL, s.AdminURL} {
			head := s.Call(t, "127.0.0.1", http.MethodHead, listener+path, "", live.Anonymous, any)
			assert.Equal(t, http.StatusOK, head.Status)
			assert.Empty(t, head.Body)
		}
	}
	assert.Equal(t, "3.0.3", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/openapi.json", "").At(t, "openapi"))
	assert.Equal(t, "Harbour Net geofeed", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/atlas", "").At(t, "sources.0.name"))
	assert.Equal(t, "Heron Lake Regatta", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/sites", "").At(t, "sites.0.name"))
}

// A body that never comes ends with the server's deadline for the header and
// does not hold up the stop, which the cleanup of start checks.
func TestAClientThatHangsUpHarmsNobody(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	reader, writer := io.Pipe()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.AdminURL+"/v1/visits", reader)
	require.NoError(t, err)
	go func() {
		_, _ = writer.Write([]byte(`{"site":`))
		_ = writer.CloseWithError(io.ErrClosedPipe)
	}()
	req.Header.Set("Authorization", "Bearer "+s.Admin)
	_, err = (&http.Client{Timeout: 10 * time.Second}).Do(req)
	require.Error(t, err)
	assert.Equal(t, http.StatusOK, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/readyz", "").Status)
}

// Work goes on for as long as it takes, whatever the time for a request: here an erasure
// that waits for its turn in the database.
func TestLongWorkIsNotCut(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"admin.timeout": "100ms", "admin.header_timeout": "100ms"})
	conn, err := pgx.Connect(t.Context(), s.Database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	tx, err := conn.Begin(t.Context())
	require.NoError(t, err)
	_, err = tx.Exec(t.Context(), `SELECT pg_advisory_xact_lock(7263001)`)
	require.NoError(t, err)
	done := make(chan live.Answer)
	go func() {
		done <- s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits/erase", `{"prefix":"198.18.0.0/16"}`)
	}()
	// By the database's clock it has waited for more than ten times what a request may take.
	require.Eventually(t, func() bool {
		var waits bool
		err := tx.QueryRow(t.Context(), `SELECT EXISTS (SELECT FROM pg_locks WHERE locktype = 'advisory' AND NOT granted AND clock_timestamp() - waitstart > interval '1s')`).Scan(&waits)
		return err == nil && waits
	}, 10*time.Minute, 50*time.Millisecond)
	require.NoError(t, tx.Rollback(t.Context()))
	got := <-done
	assert.Equal(t, http.StatusOK, got.Status, got.Body)
}
