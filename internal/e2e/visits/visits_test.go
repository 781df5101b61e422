package visits

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// What is wrong with one visit of a list is said of it, by field, and harms none
// of the others.
func TestBadVisitsHarmNoOthers(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	visit := func(more string) string {
		return `{"site":"heronlake.example","path":"/x"` + more + `}`
	}
	old, ahead := time.Now().AddDate(-3, 0, 0).UTC().Format(time.RFC3339), time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	bad := map[string]string{
		visit(`,"time":"` + old + `"`):                     "time: its time lies before what is kept",
		visit(`,"time":"` + ahead + `"`):                   "time: its time lies more than 5 minutes ahead",
		visit(`,"time":"yesterday"`):                       "time: ",
		visit(`,"id":"7"`):                                 "id: ",
		visit(`,"colour":"red"`):                           "colour: this field is not known",
		visit(`,"referrer":7`):                             "referrer: expected a string, got a number",
		visit(`,"link":"` + strings.Repeat("x", 65) + `"`): "link: it has 65 bytes",
		visit(`,"link":"a\u0000"`):                         "link: it holds a control character",
		visit(`,"attributes":[1]`):                         "attributes: it is not a JSON object",
		visit(`,"attributes":{"a":"\u0000"}`):              "attributes: ",
		visit(`,"referrer":"` + "\xff" + `"`):              "referrer: it is not valid UTF-8",
		`{"site":"heronlake.example","path":"nope"}`:       "path: it does not begin with /",
		`{"site":"heronlake.example","path":"/` + strings.Repeat("x", 10_000) + `"}`: "path: it has 10001 bytes",
		`{"site":"elsewhere.example","path":"/"}`:                                    "site: ",
		`"a visit"`: "body: expected an object, got a string",
		`[]`:        "body: expected an object, got an array",
	}
	list, reasons := []string{visit(`,"attributes":{"crew":[1,2]},"link":"poster"`)}, []string{""}
	for body, reason := range bad {
		list, reasons = append(list, body), append(reasons, reason)
	}
	got := s.Post(t, "["+strings.Join(list, ",")+"]", "User-Agent: Firefox")
	require.Equal(t, http.StatusCreated, got.Status, got.Body)
	var many struct {
		Visits []struct {
			State   string
			Problem *struct{ Detail, Hint string }
		}
		Accepted, Refused int
	}
	require.NoError(t, json.Unmarshal([]byte(got.Body), &many))
	assert.Equal(t, []int{1, len(bad)}, []int{many.Accepted, many.Refused})
	assert.Equal(t, "stored", many.Visits[0].State)
	for i, v := range many.Visits[1:] {
		require.NotNil(t, v.Problem, list[i+1])
		assert.Contains(t, v.Problem.Detail, reasons[i+1])
		assert.NotEmpty(t, v.Problem.Hint)
	}
	none := s.Post(t, `[{"site":"heronlake.example"}]`)
	assert.Equal(t, http.StatusUnprocessableEntity, none.Status)
	one := visit("")
	for list, says := range map[string]string{
		`[]`:                     "no visits",
		`[` + one + `,`:          "unexpected EOF",
		`[` + one + one + `]`:    "At byte",
		`[` + one + `]{}`:        "something follows",
		`[` + one + `,{"site":]`: "At byte",
		`[` + strings.Repeat(one+",", 1000) + one + `]`: "more than 1000",
	} {
		got := s.Post(t, list)
		assert.Equal(t, http.StatusBadRequest, got.Status, "%.80s", list)
		assert.Contains(t, got.Said(t), says, "%.80s", list)
	}
	stored := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=heronlake.example&link=poster", "")
	assert.Equal(t, map[string]any{"crew": []any{1.0, 2.0}}, stored.At(t, "visits.0.attributes"))
}

// Pages by arrival hold every visit once, also those that were reported late.
func TestPagesByArrival(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 30)
	seen, cursor := map[string]bool{}, ""
	read := func() (n int) {
		for {
			page, err := s.Client.Visits(t.Context(), map[string][]string{"site": {demo.Site}, "order": {"sequence"}}, cursor, 7)
			require.NoError(t, err)
			cursor = *page.Next
			for _, v := range page.Visits {
				require.False(t, seen[v.ID.String()])
				seen[v.ID.String()] = true
				n++
			}
			if len(page.Visits) == 0 {
				return n
			}
		}
	}
	assert.Equal(t, 30, read())
	late := fmt.Sprintf(`{"site":"heronlake.example","path":"/late","time":%q}`, time.Now().AddDate(0, 0, -20).UTC().Format(time.RFC3339))
	require.Equal(t, http.StatusCreated, s.Post(t, late).Status)
	assert.Equal(t, 1, read(), "older than all, and behind them")
	for _, wrong := range []string{"order=sequence&cursor=x", "order=colour"} {
		assert.Equal(t, http.StatusUnprocessableEntity, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=heronlake.example&"+wrong, "").Status)
	}
}

func TestDryRunsAndTests(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	dry := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", `{"site":"heronlake.example","path":"/dry","dry_run":true,"peer":"198.18.3.40"}`, "Prefer: return=representation")
	assert.Equal(t, http.StatusOK, dry.Status, dry.Body)
	assert.Equal(t, []any{"dry run", "Lisbon"}, []any{dry.At(t, "state"), dry.At(t, "visit.card.location.city")})
	assert.Equal(t, http.StatusCreated, s.Post(t, `{"site":"heronlake.example","path":"/test","test":true}`, "User-Agent: Firefox").Status)
	list := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=heronlake.example", "")
	assert.Len(t, list.At(t, "visits"), 1, "the dry run is none")
	assert.Equal(t, []any{"test"}, list.At(t, "visits.0.marks"))
	assert.Empty(t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/reports/paths?site=heronlake.example", "").At(t, "rows"))
	assert.Equal(t, "/test", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/reports/paths?site=heronlake.example&mark=test", "").At(t, "rows.0.key"))
}

// No part of an address that a site does not keep is anywhere: not in answers,
// lists, exports, the queue's files or the database.
func TestPrivacyHoldsEverywhere(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		mode, gpc   string
		field, want string // of the address in the list
		gone        []string
	}{
		{"truncated", "", "text", "198.18.7.0", []string{"198.18.7.114", "192.0.2.77", "198.18.7.112", "c612:772", "/48"}},
		{"hashed", "", "placeholder", "hash ", []string{"198.18.7.", "192.0.2.7", "/24"}},
		{"none", "", "placeholder", "not kept", []string{"198.18.7.", "192.0.2.7", "/24"}},
		{"whole", "1", "placeholder", "not kept", []string{"198.18.7.", "192.0.2.7", "a secret"}},
	} {
		t.Run(tt.mode+tt.gpc, func(t *testing.T) {
			t.Parallel()
			s := live.Start(t, map[string]any{"sites": []any{map[string]any{"host": "quiet.example", "privacy": tt.mode}}})
			var made live.Answer
			for _, visitor := range []string{"198.18.7.114", "2002:c612:772:5::1f"} { // of which the second holds the first
				body := fmt.Sprintf(`{"site":"quiet.example","path":"/","attributes":{"a":"a secret"},"peer":"203.0.113.4",
					"headers":{"X-Forwarded-For":["192.0.2.77, %s, 203.0.113.10"],"User-Agent":["Firefox"],"Sec-GPC":[%q]}}`, visitor, tt.gpc)
				made = s.Post(t, body, "Prefer: return=representation")
				require.Equal(t, http.StatusCreated, made.Status, made.Body)
			}
			list := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=quiet.example", "")
			assert.Contains(t, list.At(t, "visits.1.card.address."+tt.field), tt.want)
			export := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/export?site=quiet.example&format=csv", "")
			conn, err := pgx.Connect(t.Context(), s.Database)
			require.NoError(t, err)
			defer conn.Close(context.Background())
			var rows string
			require.NoError(t, conn.QueryRow(t.Context(), `SELECT string_agg(v::text, ' ') || (SELECT string_agg(a::text, ' ') FROM edition_facts a) FROM visit v`).Scan(&rows))
			for _, text := range []string{made.Body, list.Body, export.Body, strings.ReplaceAll(rows, "203.0.113.0/24", "")} {
				text = strings.ReplaceAll(text, "203.0.113.0/24", "the proxies")
				for _, secret := range tt.gone {
					assert.NotContains(t, text, secret)
				}
			}
			assert.Equal(t, "Valencia", list.At(t, "visits.1.card.location.city"), "which is what the address was asked for")
		})
	}
}

func TestErasingAndHandingOver(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"sites": []any{
		map[string]any{"host": "heronlake.example", "privacy": "whole"}, map[string]any{"host": "hashed.example", "privacy": "hashed"}, map[string]any{"host": "cut.example"},
	}})
	for _, site := range []string{"heronlake.example", "hashed.example", "cut.example"} {
		for _, ip := range []string{"198.18.3.40", "198.18.3.41"} {
			require.Equal(t, http.StatusCreated, s.Post(t, strings.Replace(live.VisitBody("203.0.113.4", ip), "heronlake.example", site, 1), "User-Agent: Firefox").Status)
		}
	}
	lines := func(site, query string) int {
		got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/export?site="+site+"&"+query, "")
		require.Equal(t, http.StatusOK, got.Status, got.Body)
		return strings.Count(got.Body, "\n")
	}
	for _, site := range []string{"heronlake.example", "hashed.example"} {
		assert.Equal(t, 1, lines(site, "address=198.18.3.40"), site)
	}
	refused := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/export?site=cut.example&address=198.18.3.40", "")
	assert.Equal(t, http.StatusUnprocessableEntity, refused.Status)
	assert.Contains(t, refused.At(t, "hint"), "198.18.3.0/24", "the way that there is")

	erase := func(body string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits/erase", body)
	}
	done := erase(`{"address":"198.18.3.40"}`)
	require.Equal(t, http.StatusOK, done.Status, done.Body)
	assert.Equal(t, []any{2.0, []any{"cut.example"}}, []any{done.At(t, "visits"), done.At(t, "left")})
	assert.Equal(t, 1, lines("heronlake.example", ""))
	assert.Equal(t, 1, lines("hashed.example", ""))
	assert.Equal(t, 2, lines("cut.example", ""))
	assert.InDelta(t, 3, erase(`{"prefix":"198.18.3.0/24"}`).At(t, "visits"), 0, "the cut ones, and the neighbour who is kept whole")
	assert.Equal(t, http.StatusUnprocessableEntity, erase(`{"prefix":"0.0.0.0/0"}`).Status)
	assert.Equal(t, http.StatusUnprocessableEntity, erase(`{"id":"1","address":"198.18.3.40"}`).Status)
	assert.Equal(t, http.StatusUnprocessableEntity, erase(`{}`).Status)
	assert.Equal(t, "visits erased", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/audit-log", "").At(t, "events.0.what"))
}

// Every format goes out of one service and into another, with formulas and all.
func TestVisitsMoveBetweenServices(t *testing.T) {
	t.Parallel()
	from, to := live.Start(t, nil), live.Start(t, nil)
	from.Fill(t, 250)
	from.Post(t, `{"site":"heronlake.example","path":"/=cmd()","referrer":"=HYPERLINK(1)","attributes":{"a":"<script>"},"link":"+1"}`)
	dir := t.TempDir()
	ids := func(s *live.Service) string {
		conn, err := pgx.Connect(t.Context(), s.Database)
		require.NoError(t, err)
		defer conn.Close(context.Background())
		var sum string
		require.NoError(t, conn.QueryRow(t.Context(), `SELECT count(*) || md5(string_agg(concat(v.id, path, referrer, user_agent, link, attributes, address, p.digest, network, language, card, trail, facts), '' ORDER BY v.id)) FROM visit v JOIN place p ON p.id = v.place`).Scan(&sum))
		return sum
	}
	for _, format := range []string{"csv", "ndjson", "geojson", "parquet"} {
		file := filepath.Join(dir, "visits."+format)
		out := live.RunCLI(t, from, "visits", "export", file, "--raw")
		require.Zero(t, out.Code, out.Err)
		in := live.RunCLI(t, to, "visits", "import", file)
		require.Zero(t, in.Code, in.Err+in.Out)
		want := "251 visits read: 0 stored, 251 stored before"
		if format == "csv" {
			want = "251 visits read: 251 stored"
			assert.Equal(t, ids(from), ids(to), "the same, to the byte")
		}
		assert.Contains(t, in.Out, want, format)
	}
	text, err := os.ReadFile(filepath.Join(dir, "visits.csv"))
	require.NoError(t, err)
	spoilt := filepath.Join(dir, "spoilt.csv")
	require.NoError(t, os.WriteFile(spoilt, []byte(strings.Replace(string(text), "heronlake.example", "nowhere.example", 1)), 0o600))
	bad := live.RunCLI(t, to, "visits", "import", spoilt)
	assert.Equal(t, 1, bad.Code)
	assert.Contains(t, bad.Out, "line 2: site:")
	assert.Contains(t, bad.Out, "250 stored before")
}

func TestReportsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 400)
	s.Post(t, live.VisitBody("203.0.113.4", "203.0.113.201")) // at some hours none of the 400 comes from the club-house
	plots := t.TempDir()
	for _, tt := range []struct {
		args string
		want string
	}{
		{"report countries --limit 3 --last 30d --compare", "from counts"},
		{"report towns --country-code PT", "Lisbon"},
		{"report paths --plot " + plots + "/a.svg", "/programme"},
		{"report zones", "Europe/Lisbon"},
		{"report networks", "Harbour Net"},
		{"report regions", "Lisbon"},
		{"report referrers", "rowing-news.example"},
		{"report languages", "pt-PT"},
		{"report labels", "club-house"},
		{"report links", "No visit matches"},
		{"report places", "Oslo"},
		{"report timeline --unit week --zone Asia/Tokyo --plot " + plots + "/b.png", "Asia/Tokyo"},
		{"report visitors", "Days are of UTC"},
		{"report hours", "own time"},
		{"report distances --at geo:60.39,5.32", "Half of"},
		{"report countries --new --last 40d", "Portugal"},
		{"visits state", "0 visits"},
		{"visits verify", "0 counts differ"},
		{"visits quarantine list", "None is in quarantine"},
		{"atlas publish", "answers in SQL"},
	} {
		got := live.RunCLI(t, s, strings.Fields(tt.args)...)
		assert.Zero(t, got.Code, "%s: %s", tt.args, got.Err)
		assert.Contains(t, got.Out, tt.want, tt.args)
	}
	for _, file := range []string{"a.svg", "b.png"} {
		info, err := os.Stat(filepath.Join(plots, file))
		require.NoError(t, err)
		assert.Greater(t, info.Size(), int64(1000))
	}
	for _, wrong := range []string{"report countries --last soon", "report countries --last 1d --from 2026-11-01T00:00:00Z", "report distances", "visits erase", "visits tail --output csv", "visits export visits.txt"} {
		assert.Equal(t, 2, live.RunCLI(t, s, strings.Fields(wrong)...).Code, wrong)
	}
	for _, format := range []string{"csv", "geojson", "ndjson"} {
		got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/reports/towns?site=heronlake.example&format="+format, "")
		assert.Equal(t, http.StatusOK, got.Status, got.Body)
		assert.Contains(t, got.Body, "Lisbon")
	}
	grid := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/reports/grid?site=heronlake.example&zoom=3&bbox=-15,35,5,60", "")
	assert.InDelta(t, 5.625, grid.At(t, "cell_degrees"), 0)
	for _, wrong := range []string{"grid?bbox=1,2,3", "timeline?unit=fortnight", "timeline?unit=quarter&from=2016-01-01T00:00:00Z", "countries?compare=before", "paths?new=true", "nonsense?x=1", "distances?latitude=1", "visitors?city=Lisbon"} {
		name, query, _ := strings.Cut(wrong, "?")
		got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/reports/"+name+"?site=heronlake.example&"+query, "")
		assert.Equal(t, http.StatusUnprocessableEntity, got.Status, "%s: %s", wrong, got.Body)
	}
}

// The SQL function answers for an address as the service does: random addresses of every
// block and of every prefix that embeds another, with nested rules and labels of the owner.
func TestSQLAnswersAsTheServiceDoes(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{
		"limits.key_per_second": 1_000_000,
		"nat64":                 []string{"2001:db8:64::/48", "2001:db8:64:ff00::/96", "fd00:64::/96", "64:ff9b:1::/48"},
		"policy": []any{
			map[string]any{"prefix": "198.18.0.0/15", "action": "resolve"},
			map[string]any{"prefix": "2001:db8::/32", "action": "resolve"},
			map[string]any{"prefix": "3fff::/20", "action": "resolve"},
			map[string]any{"prefix": "198.18.3.0/24", "action": "skip"},
			map[string]any{"prefix": "198.18.0.0/17", "action": "resolve"},
			map[string]any{"prefix": "192.0.0.0/8", "action": "resolve"},
			map[string]any{"kind": "tunnel", "action": "resolve"},
		},
		"labels": map[string]any{
			"lake": []string{"198.18.0.0/16", "2001:db8:64::/48", "fd00::/8"},
			"bay":  []string{"198.18.7.0/24", "10.0.0.0/8", "2002::/16"},
		},
	})
	_, n, err := s.Client.Publish(t.Context())
	require.NoError(t, err)
	assert.Positive(t, n)
	_, again, err := s.Client.Publish(t.Context())
	require.NoError(t, err)
	assert.Equal(t, n, again, "twice is once")
	s.Fill(t, 100)

	rnd := rand.New(rand.NewPCG(14, 9))
	within := func(p netip.Prefix) netip.Addr {
		b := p.Addr().AsSlice()
		for i := p.Bits(); i < 8*len(b); i++ {
			b[i/8] |= byte(rnd.IntN(2)) << (7 - i%8)
		}
		a, _ := netip.AddrFromSlice(b)
		return a
	}
	four := func() []byte {
		return within(netip.MustParsePrefix([]string{"198.18.0.0/17", "198.18.0.0/15", "10.0.0.0/8", "192.0.2.0/24", "0.0.0.0/0"}[rnd.IntN(5)])).AsSlice()
	}
	addresses := []string{"255.255.255.255", "0.0.0.0", "::", "2a00::1"}
	for _, b := range append(addr.Blocks(), addr.Elsewhere()...) {
		for range 15 {
			addresses = append(addresses, within(b.Prefix).String())
		}
	}
	for range 300 {
		v4 := netip.AddrFrom4([4]byte(four()))
		addresses = append(addresses, v4.String(), "::ffff:"+v4.String(), "64:ff9b::"+v4.String(), "fd00:64::"+v4.String(), "2001:db8:64:ff00::"+v4.String())
		b := v4.As4()
		addresses = append(addresses,
			fmt.Sprintf("2002:%x:%x::1", int(b[0])<<8|int(b[1]), int(b[2])<<8|int(b[3])),
			fmt.Sprintf("2001:0:1:2:3:4:%x:%x", 0xffff^(int(b[0])<<8|int(b[1])), 0xffff^(int(b[2])<<8|int(b[3]))),
			fmt.Sprintf("2001:db8:64:%x:%x:%x::", int(b[0])<<8|int(b[1]), int(b[2]), int(b[3])<<8),
			fmt.Sprintf("64:ff9b:1:%x:%x:%x::", int(b[0])<<8|int(b[1]), int(b[2]), int(b[3])<<8))
	}
	conn, err := pgx.Connect(t.Context(), s.Database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	rows, err := conn.Query(t.Context(), `SELECT w.kind, w.skipped, w.level, w.country_code, w.city, w.time_zone, w.latitude, w.operator, w.labels
		FROM unnest($1::text[]) WITH ORDINALITY AS u(a, i), locate(a::inet) w ORDER BY i`, addresses)
	require.NoError(t, err)
	differed, at, located := 0, 0, 0
	for ; rows.Next(); at++ {
		var level, kind string
		var aside bool
		var country, city, zone, operator *string
		var latitude *float64
		var labels []string
		require.NoError(t, rows.Scan(&kind, &aside, &level, &country, &city, &zone, &latitude, &operator, &labels))
		card, err := s.Client.Address(t.Context(), addresses[at])
		require.NoError(t, err)
		w := card.Location
		if country != nil {
			located++
		}
		if !assert.Equal(t, []any{card.Address.Kind.String(), card.Address.Skipped, string(w.Level), w.CountryCode, w.City, w.TimeZone, w.Latitude, card.Network.Operator, card.Labels},
			[]any{kind, aside, level, country, city, zone, latitude, operator, labels}, addresses[at]) {
			differed++
		}
	}
	require.NoError(t, rows.Err())
	assert.Len(t, addresses, at, "an answer for each")
	t.Logf("%d addresses, %d of them located: %d differed", at, located, differed)
	assert.Greater(t, located, 500)

	var towns int
	require.NoError(t, conn.QueryRow(t.Context(), `SELECT count(DISTINCT w.city) FROM visit_fact f, locate(f.address) w WHERE f.point->>'type' = 'Point'`).Scan(&towns))
	assert.Greater(t, towns, 5)
	var days int
	require.NoError(t, conn.QueryRow(t.Context(), `SELECT count(*) FROM visit_day WHERE dimension = 'country'`).Scan(&days))
	assert.Positive(t, days)
}

// A server that knows its visitor says so: no header is searched, and the site's privacy
// holds all the same.
func TestAServerGivesTheVisitorsAddress(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"sites": []any{map[string]any{"host": "heronlake.example", "privacy": "whole"}, map[string]any{"host": "truncated.example", "privacy": "truncated"}, map[string]any{"host": "hashed.example", "privacy": "hashed"}, map[string]any{"host": "none.example", "privacy": "none"}}})
	send := func(site, more string) live.Answer {
		return s.Post(t, `{"site":"`+site+`","path":"/",`+more+`}`, "Prefer: return=representation")
	}
	stored := send("heronlake.example", `"address":"::ffff:198.18.7.114","user_agent":"Firefox","headers":{"X-Forwarded-For":["192.0.2.10"],"Accept-Language":["es-ES"]}`)
	require.Equal(t, http.StatusCreated, stored.Status, stored.Body)
	v := *live.Parse[api.Taken](t, stored).Visit
	assert.Equal(t, "198.18.7.114", v.Card.Address.Text.String())
	assert.Equal(t, "given", v.Card.Address.Obtained)
	assert.Equal(t, "Valencia", *v.Card.Location.City)
	assert.Equal(t, "es", v.Card.Locale.Language[:2])
	assert.Equal(t, "Firefox", *v.UserAgent)
	require.Len(t, v.Trail.Hops, 1)
	assert.Equal(t, "given", v.Trail.Obtained)
	assert.NotContains(t, stored.Body, "192.0.2.10")

	for _, mode := range []string{"truncated", "hashed", "none"} {
		cut := send(mode+".example", `"address":"198.18.7.114"`)
		require.Equal(t, http.StatusCreated, cut.Status, cut.Body)
		assert.NotContains(t, cut.Body, "198.18.7.114", mode)
		assert.Nil(t, live.Parse[api.Taken](t, cut).Visit.UserAgent, "the server's own is not the visitor's")
	}

	local := send("heronlake.example", `"address":"10.0.3.8"`)
	assert.True(t, live.Parse[api.Taken](t, local).Visit.Card.Address.Skipped)
	assert.Contains(t, send("heronlake.example", `"address":"198.18.7.114","peer":"203.0.113.4"`).At(t, "detail"), "it is given beside address")
	assert.Contains(t, send("heronlake.example", `"address":"198.18.7.999"`).At(t, "detail"), "address: not an IP address")
}

// Whoever sends an id again and waits hears what stands there: the same visit, in whatever
// order its attributes are written, or another. The model keeps the first content of each
// id, and how often each was sent.
func TestWhoWaitsHearsOfAConflict(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	r := rand.New(rand.NewPCG(14, 10))
	values := map[string][]string{
		"path": {`"/a"`, `"/b"`}, "referrer": {"null", `"https://news.example/1"`}, "link": {"null", `"poster"`},
		"user_agent": {`"Firefox"`, `"Chrome"`}, "peer": {`"198.18.3.40"`, `"198.18.7.114"`},
		"attributes": {"null", `{"seat":1,"deck":{"a":1,"b":[2,1]}}`, `{"deck":{"b":[2,1],"a":1},"seat":1}`, `{"seat":2}`, `{"seat":"1"}`, `{"deck":{"a":1,"b":[1,2]},"seat":1}`},
	}
	ids := make([]string, 12)
	for i := range ids {
		id, err := uuid.NewV7()
		require.NoError(t, err)
		ids[i] = id.String()
	}
	first := map[string]string{}
	sent, conflicts := 0, 0
	for range 60 {
		var bodies, wanted []string
		for range 1 + r.IntN(5) {
			id := ids[r.IntN(len(ids))]
			content, fields := "", []string{`"site":"heronlake.example"`, fmt.Sprintf(`"id":%q`, id)}
			for _, name := range []string{"path", "referrer", "link", "user_agent", "peer", "attributes"} {
				n := 0
				if r.IntN(5) == 0 {
					n = r.IntN(len(values[name]))
				}
				fields = append(fields, fmt.Sprintf("%q:%s", name, values[name][n]))
				if name == "attributes" && n == 2 {
					n = 1 // the same in another order
				}
				content += fmt.Sprint(n, " ")
			}
			if first[id] == "" {
				first[id] = content
			}
			state := "stored"
			if first[id] != content {
				state = "conflict"
				conflicts++
			}
			bodies, wanted = append(bodies, "{"+strings.Join(fields, ",")+"}"), append(wanted, state)
			sent++
		}
		var many struct {
			Visits []struct{ State string }
		}
		a := s.Post(t, "["+strings.Join(bodies, ",")+"]")
		require.NoError(t, json.Unmarshal([]byte(a.Body), &many), a.Body)
		require.Equal(t, http.StatusCreated, a.Status, "a list is dealt with, whatever became of each")
		for i, want := range wanted {
			require.Equal(t, want, many.Visits[i].State, "%s\n%s", bodies[i], a.Body)
		}
		if len(bodies) == 1 {
			one := s.Post(t, bodies[0], "Prefer: return=representation")
			assert.Equal(t, map[string]int{"stored": 201, "conflict": 409}[wanted[0]], one.Status, one.Body)
			assert.Equal(t, wanted[0] == "stored", live.Parse[api.Taken](t, one).Visit != nil, "another's visit is not shown as this one's")
		}
	}
	t.Logf("%d visits sent with %d ids, %d conflicts, 0 answers differ", sent, len(ids), conflicts)

	gone := fmt.Sprintf(`{"site":"heronlake.example","path":"/a","id":%q,"peer":"198.18.3.40"}`, ids[0])
	erased := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits/erase", fmt.Sprintf(`{"id":%q}`, ids[0]))
	require.Equal(t, http.StatusOK, erased.Status, erased.Body)
	again := s.Post(t, gone)
	assert.Equal(t, http.StatusConflict, again.Status)
	assert.Equal(t, "not stored", again.At(t, "state"), "it was erased")
}
