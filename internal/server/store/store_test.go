package store

import (
	"context"
	crypto "crypto/rand"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/synthetic"
)

func TestMain(m *testing.M) {
	os.Exit(db.Run(m, db.Model{Tables: tables, Each: "UPDATE installation SET id = DEFAULT"}))
}

func tables(ctx context.Context, url string) error {
	s, err := Open(ctx, url, 0)
	if err == nil {
		s.Close()
	}
	return err
}

const site = "heronlake.example"

var start = time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), db.New(t), 0)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func ptr[T any](v T) *T { return &v }

// made is a visit of a minute after start, from a town or from nowhere.
func made(t *testing.T, minute int, city string) visit.Visit {
	t.Helper()
	at := start.Add(time.Duration(minute) * time.Minute)
	id, err := visit.NewID(at, crypto.Reader)
	require.NoError(t, err)
	v := visit.Visit{ID: id, Time: at, Site: site, Path: "/programme", Marks: []string{}, Trail: caller.Trail{Hops: []caller.Hop{}, Notes: []string{}}, Earlier: []visit.EarlierFacts{}}
	kind := addr.Benchmarking
	v.Card.Address = card.Address{Text: addr.Optional{Addr: netip.MustParseAddr("198.18.3.40")}, Kind: &kind, Obtained: "header"}
	v.Card.Location = atlas.Nowhere("made up")
	v.Card.Locale = locale.Locale{
		Language: "pt-PT", Script: "Latn", Direction: "ltr", Formatting: "pt-PT", Reason: locale.ByCountry, Offered: []string{"pt-PT"},
		Names: locale.Names{Language: "português europeu"}, Hints: []string{},
	}
	v.Card.Money.Also, v.Card.Variants = []string{}, variant.Choices{"offer": "early"}
	if city != "" {
		v.Card.Location = atlas.Location{
			Level: atlas.City, CountryCode: ptr("PT"), City: &city, Latitude: ptr(38.7), Longitude: ptr(-9.1), RadiusKm: ptr(15.0),
		}
		v.Card.Locale.Names.Country = ptr("Portugal")
	} else {
		v.Card.Address.Skipped = true
	}
	return v
}

func add(t *testing.T, s *Store, visits ...visit.Visit) {
	t.Helper()
	out := insert(t, s, visits...)
	require.Equal(t, visit.Outcome{Stored: len(visits)}, out)
}

func insert(t *testing.T, s *Store, visits ...visit.Visit) visit.Outcome {
	t.Helper()
	var batch []visit.QueuedVisit
	for _, v := range visits {
		a, err := v.Queued()
		require.NoError(t, err)
		batch = append(batch, a)
	}
	out, err := s.Insert(t.Context(), batch)
	require.NoError(t, err)
	return out
}

// agree fails the test where any count is not what the rows say.
func agree(t *testing.T, s *Store, site string) {
	t.Helper()
	days, err := s.Days(t.Context(), site, time.Now())
	require.NoError(t, err)
	for _, day := range days {
		differs, _, err := s.Verify(t.Context(), site, day, false)
		require.NoError(t, err)
		require.Empty(t, differs, day)
	}
}

func TestAVisitReadsBackAsItWasStored(t *testing.T) {
	t.Parallel()
	s := open(t)
	v := made(t, 0, "Lisbon")
	v.Referrer, v.UserAgent = ptr("https://heronlake.example/"), ptr("<script>alert(1)</script>")
	add(t, s, v)
	got, err := s.Visit(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, v, got)
	_, err = s.Visit(t.Context(), uuid.New())
	assert.ErrorIs(t, err, visit.ErrNoVisit)
}

func TestTheSameIDIsStoredOnceAndTheFirstWins(t *testing.T) {
	t.Parallel()
	s := open(t)
	v := made(t, 0, "Lisbon")
	var stored, duplicate atomic.Int64
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			out := insert(t, s, v, v)
			stored.Add(int64(out.Stored))
			duplicate.Add(int64(out.Duplicate))
		})
	}
	group.Wait()
	assert.Equal(t, int64(1), stored.Load())
	assert.Equal(t, int64(15), duplicate.Load())
	second := v
	second.Path = "/other"
	assert.Equal(t, visit.Outcome{Duplicate: 1, Conflicts: []int{0}}, insert(t, s, second), "and it is reported")
	got, err := s.Visit(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, "/programme", got.Path)

	fresh := made(t, 1, "Porto")
	other := fresh
	other.Path = "/other"
	assert.Equal(t, visit.Outcome{Stored: 1, Duplicate: 2, Conflicts: []int{1}}, insert(t, s, fresh, other, fresh), "the first of a batch too, and only the other is a conflict")
	got, err = s.Visit(t.Context(), fresh.ID)
	require.NoError(t, err)
	assert.Equal(t, "/programme", got.Path)
	agree(t, s, site)
}

func TestListsPageByCursorAndFilter(t *testing.T) {
	t.Parallel()
	s := open(t)
	for i := range 7 {
		city := "Lisbon"
		if i%3 == 0 {
			city = ""
		}
		add(t, s, made(t, i, city))
	}
	other := made(t, 3, "Lisbon")
	other.Site = "other.example"
	add(t, s, other)

	var seen []time.Time
	cursor := uuid.Nil
	for {
		page, err := s.Visits(t.Context(), visit.Filter{Site: site}, cursor, 3)
		require.NoError(t, err)
		if len(page) == 0 {
			break
		}
		for _, v := range page {
			seen = append(seen, v.Time)
		}
		cursor = page[len(page)-1].ID
	}
	require.Len(t, seen, 7)
	for i, at := range seen {
		assert.Equal(t, start.Add(time.Duration(6-i)*time.Minute), at, "newest first, each once")
	}

	tests := []struct {
		name   string
		filter visit.Filter
		want   int64
	}{
		{"everything", visit.Filter{}, 7},
		{"from is included", visit.Filter{From: start.Add(2 * time.Minute)}, 5},
		{"to is not", visit.Filter{To: start.Add(2 * time.Minute)}, 2},
		{"by country", visit.Filter{CountryCode: "PT"}, 4},
		{"by town", visit.Filter{City: "Lisbon"}, 4},
		{"by level", visit.Filter{Level: atlas.None}, 3},
		{"skipped", visit.Filter{Skipped: ptr(true)}, 3},
		{"not skipped", visit.Filter{Skipped: ptr(false)}, 4},
		{"by path", visit.Filter{Path: "/prog"}, 7},
		{"a path with signs of a pattern", visit.Filter{Path: "/%"}, 0},
		{"nothing of another kind", visit.Filter{CountryCode: "PT", Level: atlas.None}, 0},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			tt.filter.Site = site
			count, err := s.Count(t.Context(), tt.filter, start.Add(time.Hour))
			require.NoError(t, err)
			assert.Equal(t, visit.Count{Matching: tt.want, All: 7}, count)
			list, err := s.Visits(t.Context(), tt.filter, uuid.Nil, 100)
			require.NoError(t, err)
			assert.Len(t, list, int(tt.want))
		})
	}
}

func TestMarkedVisitsAreKeptAndNotCounted(t *testing.T) {
	t.Parallel()
	s := open(t)
	bot, private := made(t, 1, "Lisbon"), made(t, 2, "Lisbon")
	bot.Marks, private.Marks = []string{visit.MarkBot}, []string{visit.MarkPrivate}
	add(t, s, made(t, 0, "Lisbon"), bot, private)
	agree(t, s, site)
	counted, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByCountry, start.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []visit.KeyCount{{Key: "PT", Visits: 2}}, counted.Keys)
	asked, err := s.Tally(t.Context(), visit.Filter{Site: site, Mark: visit.MarkBot}, visit.ByCountry, start.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []visit.KeyCount{{Key: "PT", Visits: 1}}, asked.Keys, "unless one asks for them")
	count, err := s.Count(t.Context(), visit.Filter{Site: site}, start.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, int64(3), count.All, "lists have them all")
}

// The audit log keeps its newest lines, and what it told for ever is not read from it.
func TestTheAuditLogIsBounded(t *testing.T) {
	t.Parallel()
	s := open(t)
	event, err := access.NewEvent(start, "signed in", "somebody", "")
	require.NoError(t, err)
	require.NoError(t, s.AddSession(t.Context(), access.Session{ID: uuid.New(), Expires: start.Add(time.Hour)}, [32]byte{1}, event))
	_, err = s.pool.Exec(t.Context(), `INSERT INTO audit_log SELECT ('7fffffff-ffff-7fff-8000-' || lpad(to_hex(n), 12, '0'))::uuid, now(), 'key made', 'x', n::text FROM generate_series(1, 100050) n`)
	require.NoError(t, err)
	_, err = s.Maintain(t.Context(), start)
	require.NoError(t, err)
	var lines int
	require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM audit_log`).Scan(&lines))
	assert.Equal(t, auditKept, lines)
	newest, err := s.Events(t.Context(), uuid.Nil, 1)
	require.NoError(t, err)
	assert.Equal(t, "100050", newest[0].Detail)
	ever, err := s.EverSignedIn(t.Context())
	require.NoError(t, err)
	assert.True(t, ever)
}

// Facts stay as long as one visit is of them, now or in an older edition.
func TestFactsStayAsLongAsAVisitIsOfThem(t *testing.T) {
	t.Parallel()
	s := open(t)
	one, two := made(t, 0, "Lisbon"), made(t, 1, "Lisbon")
	add(t, s, one, two, made(t, 2, "Porto"))
	facts := func() (n int) {
		_, err := s.Maintain(t.Context(), start)
		require.NoError(t, err)
		require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM edition_facts`).Scan(&n))
		return n
	}
	require.Equal(t, 2, facts())
	porto := made(t, 9, "Porto").Card
	porto.Edition.Name = "another"
	again := func(v visit.Visit) (card.Card, bool) { return porto, v.ID == one.ID || v.ID == two.ID }
	require.NoError(t, s.Reenrich(t.Context(), start.Add(-time.Hour), again, func(int, int) {}))
	agree(t, s, site)
	require.Equal(t, 3, facts(), "the old ones are told of as earlier")
	for i, v := range []visit.Visit{one, two} {
		_, err := s.Erase(t.Context(), visit.Erasure{ID: v.ID}, start.Add(time.Hour))
		require.NoError(t, err)
		require.Equal(t, []int{3, 1}[i], facts())
	}
}

func TestErasedVisitsAreGoneAndStayGone(t *testing.T) {
	t.Parallel()
	tests := []struct {
		name  string
		what  func(v visit.Visit) visit.Erasure
		leave int
	}{
		{"by id", func(v visit.Visit) visit.Erasure { return visit.Erasure{ID: v.ID} }, 3},
		{"by address", func(visit.Visit) visit.Erasure {
			return visit.Erasure{Address: netip.MustParseAddr("198.18.3.40")}
		}, 2},
		{"by prefix", func(visit.Visit) visit.Erasure {
			return visit.Erasure{Prefix: netip.MustParsePrefix("198.18.3.0/24")}
		}, 1},
		{"by what stands for it", func(visit.Visit) visit.Erasure { return visit.Erasure{Placeholder: []string{"hash 1"}} }, 3},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			visits := []visit.Visit{made(t, 0, "Lisbon"), made(t, 1, "Porto"), made(t, 2, "Lisbon"), made(t, 3, "Lisbon")}
			visits[2].Card.Address.Text.Addr = netip.MustParseAddr("198.18.3.41")
			visits[3].Card.Address.Text, visits[3].Card.Address.Placeholder = addr.Optional{}, ptr("hash 1")
			for i := range visits {
				visits[i].VisitorHash = int64(i + 1)
				visits[i].Path = fmt.Sprintf("/about/anna-%d", i)
			}
			add(t, s, visits...)
			apart, err := visits[0].Queued()
			require.NoError(t, err)
			record, err := json.Marshal(apart)
			require.NoError(t, err)
			require.NoError(t, s.SetApart(t.Context(), []visit.SetApart{{ID: visits[0].ID, Time: start, Reason: "made up", Record: record}}))

			done, err := s.Erase(t.Context(), tt.what(visits[0]), start.Add(time.Hour))
			require.NoError(t, err)
			assert.Equal(t, 4-tt.leave, done.Visits)
			assert.Equal(t, 1, done.Days)
			if tt.name != "by what stands for it" {
				assert.Equal(t, 1, done.Quarantine)
			}
			agree(t, s, site)
			paths, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByPath, start.Add(time.Hour))
			require.NoError(t, err)
			assert.Len(t, paths.Keys, tt.leave, "what the erased said is not left in counts")

			out := insert(t, s, visits...) // from the queue of another service
			assert.Equal(t, 4-tt.leave, out.Erased)
			assert.Equal(t, tt.leave, out.Duplicate)
			agree(t, s, site)
		})
	}
}

func TestOldVisitsGoByTheWeekAndTheirCountsStay(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.retention = 30 * 24 * time.Hour
	now := time.Now().UTC().Truncate(time.Millisecond)
	source := synthetic.NewVisits(2, site, 20, now.AddDate(0, 0, -70), now)
	var batch []visit.QueuedVisit
	for range 2000 {
		batch = append(batch, source.Next())
	}
	s.retention = 0
	_, err := s.Insert(t.Context(), batch)
	require.NoError(t, err)
	s.retention = 30 * 24 * time.Hour
	dropped, err := s.Maintain(t.Context(), now)
	require.NoError(t, err)
	assert.NotEmpty(t, dropped)
	kept, err := s.Kept(t.Context())
	require.NoError(t, err)
	assert.Equal(t, s.Oldest(now), *kept.Since)
	assert.Equal(t, kept.Since.AddDate(0, 0, 37), *kept.NextDrop)
	all, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByAll, now)
	require.NoError(t, err)
	bots := 0
	for _, a := range batch {
		if !a.Row.Counted() {
			bots++
		}
	}
	assert.Equal(t, int64(2000-bots), all.Sum(), "counts stay")
	agree(t, s, site)
	out, err := s.Insert(t.Context(), batch)
	require.NoError(t, err)
	assert.Equal(t, 2000, out.Expired+out.Duplicate, "what is too old does not come back")
	assert.NotZero(t, out.Expired)
	count, err := s.Count(t.Context(), visit.Filter{Site: site}, now)
	require.NoError(t, err)
	assert.Equal(t, int64(out.Duplicate), count.All)
}

// Whoever follows stored visits misses nothing that several services store at once,
// whatever their times.
func TestFollowersOfArrivalsMissNothing(t *testing.T) {
	t.Parallel()
	url := db.New(t)
	const services, each, size = 3, 12, 40
	var writers sync.WaitGroup
	var wrote atomic.Bool
	for n := range services {
		s, err := Open(t.Context(), url, 0)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		source := synthetic.NewVisits(uint64(n), site, 10, start.AddDate(0, 0, -20), start)
		writers.Go(func() {
			for range each {
				var batch []visit.QueuedVisit
				for range size {
					batch = append(batch, source.Next())
				}
				_, err := s.Insert(t.Context(), batch)
				assert.NoError(t, err)
			}
		})
	}
	go func() { writers.Wait(); wrote.Store(true) }()
	s, err := Open(t.Context(), url, 0)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	seen, after := map[uuid.UUID]bool{}, int64(0)
	for {
		last := wrote.Load() // before it is asked
		through, err := s.StoredThrough(t.Context())
		require.NoError(t, err)
		list, err := s.StoredAfter(t.Context(), visit.Filter{Site: site}, after, through, 100)
		require.NoError(t, err)
		for _, a := range list {
			require.Greater(t, a.Sequence, after)
			after = a.Sequence
			seen[a.Visit.ID] = true
		}
		if last && len(list) == 0 {
			break
		}
	}
	assert.Equal(t, services*each*size, len(seen))
	agree(t, s, site)
}

// Batches of several services at once, which have visits of each other in them, of two sites, while some are erased: each is
// stored once, nothing is refused, and the counts are those of the rows.
func TestBatchesAtOnce(t *testing.T) {
	t.Parallel()
	url := db.New(t)
	s, err := Open(t.Context(), url, 0)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	const services, batches = 4, 20
	var all []visit.QueuedVisit
	of := map[uuid.UUID]bool{}
	for n, site := range []string{site, "shop.example"} {
		source := synthetic.NewVisits(uint64(90+n), site, 30, start.AddDate(0, 0, -3), start)
		for range 400 {
			all = append(all, source.Next())
			of[all[len(all)-1].Row.ID] = true
		}
	}
	var working sync.WaitGroup
	var stored, erased atomic.Int64
	for n := range services {
		r := rand.New(rand.NewPCG(34, uint64(n)))
		var mine [][]visit.QueuedVisit
		for range batches {
			batch := []visit.QueuedVisit{}
			for range 60 {
				batch = append(batch, all[r.IntN(len(all))])
			}
			mine = append(mine, batch)
		}
		working.Go(func() {
			for i, batch := range mine {
				out, err := s.Insert(t.Context(), batch)
				assert.NoError(t, err)
				assert.Empty(t, out.Conflicts)
				stored.Add(int64(out.Stored))
				if i%5 == n {
					gone, err := s.Erase(t.Context(), visit.Erasure{ID: batch[0].Row.ID}, start.Add(time.Hour))
					assert.NoError(t, err)
					erased.Add(int64(gone.Visits))
				}
			}
		})
	}
	working.Wait()
	var rows int64
	require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM visit`).Scan(&rows))
	assert.Equal(t, stored.Load()-erased.Load(), rows)
	assert.Positive(t, erased.Load())
	agree(t, s, site)
	agree(t, s, "shop.example")
}

func TestARefusedVisitIsTheDatasFault(t *testing.T) {
	t.Parallel()
	s := open(t)
	v := made(t, 0, "Lisbon")
	v.Path = "/\x00" // which nobody who checks lets through
	a, err := v.Queued()
	require.NoError(t, err)
	_, err = s.Insert(t.Context(), []visit.QueuedVisit{a})
	require.ErrorIs(t, err, visit.ErrRefused)
	long := made(t, 0, "Lisbon")
	letters, r := make([]byte, 9000), rand.New(rand.NewPCG(1, 1))
	for i := range letters {
		letters[i] = byte('a' + r.IntN(26))
	}
	city := string(letters) // too long for an index
	long.Card.Location.City = &city
	a, err = long.Queued()
	require.NoError(t, err)
	_, err = s.Insert(t.Context(), []visit.QueuedVisit{a})
	require.ErrorIs(t, err, visit.ErrRefused)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = s.Insert(ended, []visit.QueuedVisit{a})
	require.NotErrorIs(t, err, visit.ErrRefused, "which a stop is not")
	agree(t, s, site)
}

func TestTwoServicesMigrateOneDatabase(t *testing.T) {
	t.Parallel()
	url := db.NewEmpty(t)
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			s, err := Open(t.Context(), url, 0)
			if assert.NoError(t, err) {
				s.Close()
			}
		})
	}
	group.Wait()
}

func TestADatabaseThatIsNotThere(t *testing.T) {
	t.Parallel()
	_, err := Open(t.Context(), "postgres://eastporch@127.0.0.1:1/none", 0)
	require.ErrorIs(t, err, visit.ErrAway)
	s := open(t)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, s.Ping(ended), visit.ErrAway)
}
