package store

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/document"
	"eastporch/internal/core/link"
	"eastporch/internal/core/visit"
	"eastporch/internal/testkit/db"
)

// clicksOf makes visits of some days: clicks on three links, and others that are nearly that.
func clicksOf(t *testing.T, r *rand.Rand, n int) (list []visit.Visit) {
	t.Helper()
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	for range n {
		v := made(t, r.IntN(3*24*60), pick("Lisbon", "Porto", "Braga", ""))
		code := pick("tickets", "programme", "early")
		v.Path, v.Link, v.Destination = link.Path(code), &code, ptr(pick("/en/tickets", "/pt/bilhetes"))
		switch r.IntN(8) {
		case 0: // the page that a link led to
			v.Path, v.Destination = "/programme", nil
		case 1: // no click on this link
			v.Path = link.Path(pick("ticket", "tickets/", "tickets2"))
		case 2:
			v.Link, v.Destination = nil, nil
		}
		v.Marks = [][]string{{}, {}, {}, {}, {visit.MarkPrivate}, {visit.MarkBot}, {visit.MarkPreview}, {visit.MarkRepeat}}[r.IntN(8)]
		if v.Card.Address.Skipped {
			v.Card.Address.Placeholder = [](*string){nil, ptr("club-house"), ptr("office")}[r.IntN(3)]
		}
		if s := pick("", "https://rowing-news.example/x", "https://mail.example/"); s != "" {
			v.Referrer = &s
		}
		if s := pick("", "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0", "SomethingElse/1"); s != "" {
			v.UserAgent = &s
		}
		v.VisitorHash = int64(r.IntN(40)) // 0 is nobody in particular
		list = append(list, v)
	}
	return list
}

// Clicks are counted for their link as a model counts them that shares nothing with the counts, by every
// dimension and for any time; after erasures too, and after counts were tampered with and put right.
func TestClicksAreCountedByLink(t *testing.T) {
	t.Parallel()
	s := open(t)
	r := rand.New(rand.NewPCG(19, 1))
	list := clicksOf(t, r, 700)
	for batch := range slices.Chunk(list, 90) {
		add(t, s, batch...)
	}
	agree(t, s, site)
	now := start.Add(4 * 24 * time.Hour)
	tried := 0
	compare := func() {
		t.Helper()
		for range 60 {
			f := visit.Filter{Site: site, Click: []string{"tickets", "programme", "early"}[r.IntN(3)], From: start.Add(time.Duration(r.IntN(60*60)) * time.Minute)}
			f.To = f.From.Add(time.Duration(1+r.IntN(3*24*60)) * time.Minute)
			for by, key := range map[visit.By]func(visit.Visit) string{
				visit.ByAll:         func(visit.Visit) string { return "" },
				visit.ByCountry:     func(v visit.Visit) string { return deref(v.Card.Location.CountryCode) },
				visit.ByDestination: func(v visit.Visit) string { return deref(v.Destination) },
				visit.ByReferrer: func(v visit.Visit) string {
					host, _, _ := strings.Cut(strings.TrimPrefix(deref(v.Referrer), "https://"), "/")
					return host
				},
				visit.ByAgent: func(v visit.Visit) string {
					return map[bool]string{true: "Firefox", false: map[bool]string{true: "other"}[v.UserAgent != nil]}[strings.Contains(deref(v.UserAgent), "Firefox")]
				},
				visit.ByPlaceholder: func(v visit.Visit) string { return deref(v.Card.Address.Placeholder) },
			} {
				want, left := map[string]int64{}, map[string]int64{}
				for _, v := range list {
					if v.Link == nil || *v.Link != f.Click || v.Path != "/to/"+f.Click || v.Time.Before(f.From) || !v.Time.Before(f.To) {
						continue
					}
					if len(v.Marks) > 0 && v.Marks[0] != visit.MarkPrivate {
						left[v.Marks[0]]++
					} else if k := key(v); by != visit.ByPlaceholder || k != "" {
						want[k]++
					}
				}
				got, err := s.Tally(t.Context(), f, by, now)
				require.NoError(t, err)
				counted := map[string]int64{}
				for _, k := range got.Keys {
					counted[k.Key] += k.Visits
				}
				require.Equal(t, want, counted, "%s of %+v", by, f)
				out, err := s.LeftOut(t.Context(), f, now)
				require.NoError(t, err)
				require.Equal(t, left, out)
				tried++
			}
			lines, _, err := s.Timeline(t.Context(), f, []time.Time{f.From, f.From.Add(time.Hour)}, now)
			require.NoError(t, err)
			all, err := s.Tally(t.Context(), f, visit.ByAll, now)
			require.NoError(t, err)
			require.Equal(t, all.Sum(), lines[0].Visits+lines[1].Visits)
		}
		days := map[time.Time]map[int64]bool{}
		for _, v := range list {
			if v.Link != nil && *v.Link == "tickets" && v.Path == "/to/tickets" && v.VisitorHash != 0 && (len(v.Marks) == 0 || v.Marks[0] == visit.MarkPrivate) {
				day := v.Time.Truncate(24 * time.Hour)
				if days[day] == nil {
					days[day] = map[int64]bool{}
				}
				days[day][v.VisitorHash] = true
			}
		}
		visitors, err := s.Visitors(t.Context(), visit.Filter{Site: site, Click: "tickets"})
		require.NoError(t, err)
		require.Len(t, visitors, len(days))
		for _, d := range visitors {
			require.Equal(t, int64(len(days[d.From])), d.Visits, d.From)
		}
	}
	compare()
	for range 80 {
		i := r.IntN(len(list))
		_, err := s.Erase(t.Context(), visit.Erasure{ID: list[i].ID}, now)
		require.NoError(t, err)
		list = slices.Delete(list, i, i+1)
	}
	agree(t, s, site)
	compare()
	_, err := s.pool.Exec(t.Context(), `UPDATE rollup SET visits = visits + 3 WHERE site = $1 AND dimension = 'country'`, site+"/to/early")
	require.NoError(t, err)
	for day := range 4 {
		differs, _, err := s.Verify(t.Context(), site, start.Add(time.Duration(day)*24*time.Hour), true)
		require.NoError(t, err)
		for _, d := range differs {
			assert.Equal(t, site+"/to/early", d.Site)
		}
	}
	agree(t, s, site)
	compare()
	t.Logf("%d counts against the model, 0 differ", tried)
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func TestLinksAreKept(t *testing.T) {
	t.Parallel()
	s := open(t)
	rows := s.Links()
	now := time.Now().UTC().Truncate(time.Millisecond)
	for i := range 5 {
		said := fmt.Sprintf(`{"name": "Number %d", "note": "", "destination": "/x", "routes": [], "hand_on": [], "status": 302, "until": null, "limit": null}`, i)
		if i == 2 {
			said = said[:len(said)-1] + fmt.Sprintf(`, "disabled": %q}`, now.Format(time.RFC3339Nano))
		}
		_, err := s.Documents().Save(t.Context(), document.Document{Key: document.Key{Site: site, Kind: document.Link, Name: fmt.Sprint("link-", i)}, Body: []byte(said), MadeBy: "test", MadeAt: now}, nil, 0)
		require.NoError(t, err)
	}
	require.NoError(t, rows.AddTally(t.Context(), link.Tally{Counts: map[string]link.Counted{"link-1": {Used: 4, NotRecorded: 2}}, Day: now, Asked: map[link.AskedKey]int64{{Site: site, Code: "tickte"}: 3, {Site: site}: 2, {Site: site, Code: "link-1"}: 9}}))
	got, err := rows.Counted(t.Context(), "link-1")
	require.NoError(t, err)
	assert.Equal(t, link.Counted{Used: 4, NotRecorded: 2}, got)
	asked, others, err := rows.Asked(t.Context(), site, now.AddDate(0, 0, -1), 5)
	require.NoError(t, err)
	assert.Equal(t, []link.Asked{{Code: "tickte", Requests: 3}}, asked, "what was made since is left out")
	assert.Equal(t, int64(2), others)
	many := map[link.AskedKey]int64{}
	for i := range 1200 {
		many[link.AskedKey{Site: site, Code: fmt.Sprint("made-up-", i)}] = 1
	}
	require.NoError(t, rows.AddTally(t.Context(), link.Tally{Day: now, Asked: many}))
	var named int
	require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM link_asked`).Scan(&named))
	assert.LessOrEqual(t, named, 502)
	_, others, err = rows.Asked(t.Context(), site, now.AddDate(0, 0, -1), 5)
	require.NoError(t, err)
	assert.Equal(t, int64(2+1200+3-3-4), others, "but the five that are listed")

	v := made(t, 0, "Lisbon")
	v.Path, v.Link = "/to/link-3", ptr("link-3")
	add(t, s, v)
	today := v.Time.Truncate(24 * time.Hour)
	q := link.Question{Site: site, Limit: 10, Days: []time.Time{today.AddDate(0, 0, -1), today}}
	list, err := rows.List(t.Context(), q, now)
	require.NoError(t, err)
	require.Len(t, list, 5)
	assert.Equal(t, "link-3", list[0].Code, "the most followed first")
	assert.Equal(t, []int64{0, 1}, list[0].Days)
	assert.Equal(t, "Lisbon", *list[0].Last.Place.City)
	assert.Equal(t, "link-2", list[4].Code, "what has ended last")
	for state, want := range map[string]int{"active": 4, "ended": 1} {
		q.Active, q.Ended = state == "active", state == "ended"
		list, err = rows.List(t.Context(), q, now)
		require.NoError(t, err)
		assert.Len(t, list, want)
	}
	found, err := rows.List(t.Context(), link.Question{Site: site, Search: "NUMBER 4", Limit: 10}, now)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Zero(t, cmp.Compare(found[0].Code, "link-4"))
}

// A link's figures beside those of the whole site, in turns, among those of 100,000 links with 10 million clicks.
func BenchmarkLinkReport(b *testing.B) {
	s, err := Open(b.Context(), db.New(b), 0)
	require.NoError(b, err)
	defer s.Close()
	today := time.Now().UTC().Truncate(day)
	_, err = s.pool.Exec(b.Context(), `
		INSERT INTO count_key (text) SELECT * FROM unnest(ARRAY['PT', 'NO', 'JP', 'Firefox', 'Safari', 'rowing-news.example', '/en/tickets']) ON CONFLICT DO NOTHING`)
	require.NoError(b, err)
	for _, of := range []string{`'bench.example'`, `'bench.example/to/link-' || n`} {
		_, err = s.pool.Exec(b.Context(), `INSERT INTO rollup SELECT `+of+`, d.dimension, 'day', $1::timestamptz - make_interval(days => t), coalesce(k.id, 1), 50
			FROM generate_series(1, `+map[bool]string{true: "100000", false: "1"}[strings.Contains(of, "/")]+`) n, generate_series(0, 1) t,
				(VALUES ('all', ''), ('visitors', ''), ('country', 'PT'), ('country', 'NO'), ('country', 'JP'), ('agent', 'Firefox'), ('agent', 'Safari'), ('referrer', 'rowing-news.example'), ('destination', '/en/tickets')) d(dimension, key)
				LEFT JOIN count_key k ON k.text = d.key`, today)
		require.NoError(b, err)
	}
	_, err = s.pool.Exec(b.Context(), `INSERT INTO document
		SELECT 'bench.example', 'link', 'link-' || n, 1, n, true, '{"name": "A name", "note": "", "destination": "/en/tickets", "routes": [], "status": 302, "hand_on": []}', '{}', 'bench', now(), 'bench', now() FROM generate_series(1, 100000) n`)
	require.NoError(b, err)
	_, err = s.pool.Exec(b.Context(), `ANALYZE rollup; ANALYZE document`)
	require.NoError(b, err)
	ask := func(f visit.Filter) time.Duration {
		begun := time.Now()
		for _, by := range []visit.By{visit.ByCountry, visit.ByAgent, visit.ByReferrer} {
			_, err := s.Tally(b.Context(), f, by, time.Now())
			require.NoError(b, err)
		}
		_, err := s.Visitors(b.Context(), f)
		require.NoError(b, err)
		_, err = s.LeftOut(b.Context(), f, time.Now())
		require.NoError(b, err)
		return time.Since(begun)
	}
	r := rand.New(rand.NewPCG(19, 2))
	var ofSite, ofLink, list time.Duration
	n := 0
	for b.Loop() {
		for range 20 {
			f := visit.Filter{Site: "bench.example", From: today.AddDate(0, 0, -1)}
			ofSite += ask(f)
			f.Click = fmt.Sprint("link-", 1+r.IntN(100_000))
			ofLink += ask(f)
			n++
		}
		begun := time.Now()
		page, err := s.Links().List(b.Context(), link.Question{Site: "bench.example", Limit: 50, Days: []time.Time{today.AddDate(0, 0, -1), today}}, time.Now())
		require.NoError(b, err)
		require.Len(b, page, 50)
		list += time.Since(begun)
	}
	b.ReportMetric(float64(list.Milliseconds())/float64(n/20), "list-ms")
	b.ReportMetric(float64(ofSite.Microseconds())/float64(n), "site-us")
	b.ReportMetric(float64(ofLink.Microseconds())/float64(n), "link-us")
}
