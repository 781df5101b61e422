package answers

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/client"
	"eastporch/internal/core/link"
	"eastporch/internal/testkit/live"
)

var (
	fuzzEach = flag.Int("fuzz-each", 25, "how many requests the fuzzing client sends to each operation")
	fuzzSeed = flag.Uint64("fuzz-seed", 13, "what its requests are made from")
	fuzzFor  = flag.Duration("fuzz-for", 0, "how long it goes on, round by round, in place of one round")
)

// fuzzer makes requests out of the contract: some as it says, most not quite.
type fuzzer struct {
	r   *rand.Rand
	ids []string // of things that exist
}

var (
	oddTexts = []string{
		"", " ", "\x00", "a\x00b", "\u202e", "\ufffd", "\xff\xfe", "é", "日本", strings.Repeat("x", 300), strings.Repeat("9", 5000), "null", "true", "[]", "{}", "-1", "0", "1e309", "NaN", "Infinity",
		"9223372036854775808", "../../../../etc/passwd", "..", "%00", "%", "'; DROP TABLE visit; --", `"`, "=1+1", "<script>", "\r\nX-Forged: 1", "2026-13-45T99:99:99Z", "2026-11-28T00:00:00Z", "0001-01-01T00:00:00Z",
		"9999-12-31T23:59:59Z", "PT", "UK", "ZZ", "198.18.3.40", "2001:db8::/32", "::/0", "0.0.0.0/0", "2002:c612:328::1", "fe80::1%eth0", "1.2.3.4/33", "heronlake.example", "nowhere.example", "csv", "json", "xml", "yaml", "geojson",
		"parquet", "day", "Europe/Lisbon", "Local", "location.city", "a.b.c.d.e.f", "00000000-0000-0000-0000-000000000000", "0193f2c4-0000-7000-8000-000000000000", "bot", "-180,-90,180,90", "180,0,-180,1", "geo:60.39,5.32", "geo:91,0",
	}
	oddValues = []any{nil, true, -1, 0, 1.5, 1e308, []any{}, map[string]any{}, []any{nil}, strings.Repeat("x", 3000), "\x00", map[string]any{"a": map[string]any{"b": map[string]any{"c": map[string]any{"d": map[string]any{"e": 1}}}}}}
)

func (f *fuzzer) one(list []string) string { return list[f.r.IntN(len(list))] }

// text makes a text for a schema.
func (f *fuzzer) text(s *openapi3.Schema) string {
	switch n := f.r.IntN(10); {
	case n < 3 || s == nil:
		return f.one(oddTexts)
	case len(s.Enum) > 0 && n < 8:
		return fmt.Sprint(s.Enum[f.r.IntN(len(s.Enum))])
	case s.Format == "uuid" && n < 8:
		return f.one(f.ids)
	case s.Format == "date-time" && n < 8:
		return time.Now().Add(time.Duration(f.r.IntN(800)-700) * time.Hour).UTC().Format(time.RFC3339)
	case s.Type.Is("integer") || s.Type.Is("number"):
		return f.one([]string{"0", "1", "5", "100", "-5", "60.5", "99999999999"})
	case s.Type.Is("boolean"):
		return f.one([]string{"true", "false", "yes"})
	case s.Example != nil && n < 8:
		return fmt.Sprint(s.Example)
	}
	return f.one([]string{"heronlake.example", "Lisbon", "PT", "198.18.3.40", "198.18.3.0/24", "/programme", "pt-PT", "EUR", "Europe/Lisbon", "office"})
}

// value makes a value for a schema, now and then one that does not fit.
func (f *fuzzer) value(s *openapi3.Schema, depth int) any {
	if f.r.IntN(12) == 0 || s == nil || depth > 6 {
		return oddValues[f.r.IntN(len(oddValues))]
	}
	for _, many := range []openapi3.SchemaRefs{s.OneOf, s.AnyOf, s.AllOf} {
		if len(many) > 0 {
			return f.value(many[f.r.IntN(len(many))].Value, depth+1)
		}
	}
	switch {
	case s.Type == nil || s.Type.Is("object"):
		object := map[string]any{}
		for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
			if slices.Contains(s.Required, name) && f.r.IntN(15) > 0 || f.r.IntN(3) == 0 {
				object[name] = f.value(s.Properties[name].Value, depth+1)
			}
		}
		if f.r.IntN(15) == 0 {
			object[f.one(oddTexts)] = oddValues[f.r.IntN(len(oddValues))]
		}
		return object
	case s.Type.Is("array"):
		list := make([]any, f.r.IntN(4))
		for i := range list {
			list[i] = f.value(s.Items.Value, depth+1)
		}
		return list
	case s.Type.Is("integer"):
		return f.r.IntN(200) - 20
	case s.Type.Is("number"):
		return f.r.Float64()*400 - 200
	case s.Type.Is("boolean"):
		return f.r.IntN(2) == 0
	}
	return f.text(s)
}

// request makes a request of an operation.
func (f *fuzzer) request(base, path, method string, item *openapi3.PathItem, op *openapi3.Operation) (*http.Request, string) {
	query := url.Values{}
	for _, p := range append(append(openapi3.Parameters{}, item.Parameters...), op.Parameters...) {
		switch p := p.Value; p.In {
		case "path":
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(f.text(p.Schema.Value)))
		case "query":
			if p.Required && f.r.IntN(8) > 0 || f.r.IntN(3) == 0 {
				query.Add(p.Name, f.text(p.Schema.Value))
			}
			if f.r.IntN(40) == 0 {
				query.Add(p.Name, f.one(oddTexts))
			}
		}
	}
	if f.r.IntN(25) == 0 {
		query.Add(f.one([]string{"fields", "format", "limit", "cursor", "site", "from", "to", "x", ""}), f.one(oddTexts))
	}
	target := base + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	kind, text := "", ""
	if op.RequestBody != nil {
		content := op.RequestBody.Value.Content
		kinds := slices.Sorted(maps.Keys(content))
		kind = kinds[f.r.IntN(len(kinds))]
		if schema := content[kind].Schema; strings.Contains(kind, "json") && schema != nil {
			body, _ := json.Marshal(f.value(schema.Value, 0))
			text = string(body)
		} else {
			text = f.one([]string{"", "198.18.3.40\n10.0.0.1\nnonsense\n\x00\n", "id,site,path,card,trail\n\"never closed", "prefix,country\n198.18.0.0/24,PT\n", "\x1f\x8b\x08\x00broken", "PAR1\x00\x00PAR1", "{}\n{\n", strings.Repeat("\xff", 2000), strings.Repeat("a,", 5000)})
		}
		switch n := f.r.IntN(20); {
		case n == 0 && len(text) > 1: // cut off
			text = text[:f.r.IntN(len(text))]
		case n == 1:
			text = f.one(oddTexts)
		case n == 2:
			text = strings.Repeat("[", 20_000)
		case n == 3:
			kind = f.one([]string{"text/plain", "application/xml", "", "application/json; charset=\x01"})
		}
	}
	req, err := http.NewRequest(strings.ToUpper(method), target, strings.NewReader(text))
	if err != nil {
		return nil, target
	}
	if kind != "" && !strings.ContainsAny(kind, "\x01") {
		req.Header.Set("Content-Type", kind)
	}
	for name, values := range map[string][]string{
		"Accept": {"application/json", "*/*", "text/csv", "application/geo+json", "x", "application/xml;q=NaN"}, "X-Forwarded-For": {"198.18.3.40", "unknown", ",,", "10.1.2.3, 127.0.0.1"}, "Accept-Language": {"pt-PT", strings.Repeat("a-", 500), "*;q=9"},
		"Prefer": {"wait=1", "return=representation, wait=1", "wait=-1"}, "Cookie": {"porch_choice=fr", "porch_choice=%00"}, "Last-Event-ID": {"0", "x"}, "If-None-Match": {"x"},
	} {
		if f.r.IntN(5) == 0 {
			req.Header.Set(name, f.one(values))
		}
	}
	return req, target
}

// Every operation of the contract, asked again and again with what a careless or hostile
// client may send: no panic and no 5xx, and every answer as the contract says.
func TestEveryOperationSurvivesOddRequests(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"limits.key_per_second": 1_000_000, "limits.visitor_per_second": 1_000_000})
	s.Fill(t, 100)
	doc, err := openapi3.NewLoader().LoadFromData(api.YAML())
	require.NoError(t, err)
	page, err := s.Client.Visits(t.Context(), url.Values{"site": {"heronlake.example"}}, "", 5)
	require.NoError(t, err)
	key, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	made, err := s.Client.CreateLink(t.Context(), client.NewLink{Code: "tickets", Said: link.Said{Destination: "/x"}})
	require.NoError(t, err)
	f := &fuzzer{r: rand.New(rand.NewPCG(*fuzzSeed, 1)), ids: []string{"00000000-0000-0000-0000-000000000000", "x", page.Visits[0].ID.String(), page.Visits[1].ID.String(), key[0].ID.String(), made.Code}}
	statuses, operations, requests := map[int]int{}, 0, 0
	web := &live.Contract{T: t, Router: s.Contract.Router, Next: &http.Transport{MaxIdleConnsPerHost: 4}}
	began := time.Now()
	for round := 0; round == 0 || time.Since(began) < *fuzzFor; round++ {
		operations = 0
		paths := doc.Paths.Map()
		names := slices.Sorted(maps.Keys(paths))
		sort.Strings(names)
		for _, path := range names {
			for method, op := range paths[path].Operations() {
				operations++
				for range *fuzzEach {
					listeners, _ := op.Extensions["x-listeners"].([]any)
					base := s.AdminURL
					if f.r.IntN(2) == 0 && slices.Contains(listeners, any("public")) {
						base = s.PublicURL
					}
					req, target := f.request(base, path, method, paths[path], op)
					if req == nil {
						continue
					}
					if strings.Contains(path, "/keys/") && (method == http.MethodDelete || method == http.MethodPatch) && strings.Contains(target, key[0].ID.String()) {
						continue // which the test itself needs
					}
					status := send(t, web, req, s.Admin)
					requests++
					statuses[status]++
					if status >= 500 && status != http.StatusServiceUnavailable || status == 0 {
						assert.Fail(t, "the service failed", "%s %q answers %d", req.Method, target, status)
					}
				}
			}
		}
		if t.Failed() {
			break
		}
	}
	assert.Positive(t, statuses[http.StatusOK])
	assert.Positive(t, statuses[http.StatusUnprocessableEntity])
	t.Logf("%d operations, %d requests, statuses %v", operations, requests, statuses)
	live.Settled(t, s.AdminURL, s.Admin)
	agreeing := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/readyz", "")
	assert.Contains(t, agreeing.Body, `"ready"`)
}

// send gives the status of an answer, 0 where there was none. A stream ends after a while.
func send(t *testing.T, web http.RoundTripper, req *http.Request, key string) int {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()
	if strings.Contains(req.URL.Path, "stream") {
		ctx, cancel = context.WithTimeout(t.Context(), 200*time.Millisecond)
		defer cancel()
	}
	req = req.WithContext(ctx)
	if req.URL.Path != "/v1/sessions" || req.Method != http.MethodPost {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	res, err := web.RoundTrip(req)
	if err != nil {
		slog.Debug("no answer", "error", err)
		if strings.Contains(err.Error(), "invalid header") || strings.Contains(err.Error(), "malformed") {
			return -1 // Go's client does not send it
		}
		return 0
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	return res.StatusCode
}

// What broke the service before the fuzzing client was there.
func TestInputThatBrokeIt(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	for path, status := range map[string]int{
		"/v1/reports/timeline":                      http.StatusUnprocessableEntity,
		"/v1/reports/timeline?site=nowhere.example": http.StatusUnprocessableEntity,
		"/v1/reports/timeline?site=heronlake.example&from=2026-11-01T00:00:00Z&zone=x": http.StatusUnprocessableEntity,
		"/v1/atlas/changes?from=a%00b":                            http.StatusBadRequest,
		"/v1/atlas/coverage?edition=%00":                          http.StatusBadRequest,
		"/v1/atlas/coverage?edition=" + strings.Repeat("x", 300):  http.StatusNotFound,
		"/v1/atlas/coverage?edition=" + strings.Repeat("y", 3000): http.StatusNotFound,
	} {
		got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+path, "")
		assert.Equal(t, status, got.Status, "%.80s: %s", path, got.Body)
	}
	head := "id,time,site,path,referrer,user_agent,link,attributes,marks,address,kind,level,country_code,region_code,city,latitude,longitude,radius_km,time_zone,as_number,operator,labels,language,card,trail\n"
	quote := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits/import?format=csv", head+"\"never closed\nx,y\n", "Content-Type: text/csv")
	assert.Equal(t, http.StatusOK, quote.Status, quote.Body)
	assert.Contains(t, quote.Body, `"rejected":1`)
	long := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits/import?format=csv", head+"\""+strings.Repeat("never closed\n", 200_000), "Content-Type: text/csv")
	assert.Equal(t, http.StatusUnprocessableEntity, long.Status)
	assert.Contains(t, long.Body, "perhaps a quote is not closed")

	for _, listener := range []string{s.PublicURL, s.AdminURL} {
		conn, err := net.Dial("tcp", strings.TrimPrefix(listener, "http://"))
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		fmt.Fprintf(conn, "POST /v1/visits HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\nnonsense\r\n", s.Admin)
		line, err := bufio.NewReader(conn).ReadString('\n')
		require.NoError(t, err)
		assert.Contains(t, line, "400 Bad Request", "a broken chunk")
		_ = conn.Close()
	}
}
