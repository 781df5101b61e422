package store

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/card"
	"eastporch/internal/core/document"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/testkit/db"
)

var writeData = flag.Bool("write-data", false, "write testdata/NNNNN.sql of the newest migration, which must be new")

// Whoever adds a migration writes the data that a database of its version has, with
// go test ./internal/server/store -run TestMigrationsKeepTheData -write-data: from then on
// every later migration meets it.
func TestMigrationsKeepTheData(t *testing.T) {
	t.Parallel()
	files, err := migrations.ReadDir("migrations")
	require.NoError(t, err)
	if *writeData {
		writeTestData(t, int64(len(files)))
	}
	for i := range files {
		version := int64(i + 1)
		t.Run(fmt.Sprintf("from %d", version), func(t *testing.T) {
			t.Parallel()
			url := db.NewEmpty(t)
			pool, err := pgxpool.New(t.Context(), url)
			require.NoError(t, err)
			defer pool.Close()
			db := stdlib.OpenDBFromPool(pool)
			defer db.Close()
			provider, err := migrator(db)
			require.NoError(t, err)
			_, err = provider.UpTo(t.Context(), version)
			require.NoError(t, err)
			data, err := os.ReadFile(dataOf(version))
			require.NoError(t, err, "write it with -write-data")
			_, err = pool.Exec(t.Context(), string(data))
			require.NoError(t, err)

			s, err := Open(t.Context(), url, 0)
			require.NoError(t, err)
			defer s.Close()
			seesTestData(t, s)
		})
	}
}

func dataOf(version int64) string { return filepath.Join("testdata", fmt.Sprintf("%05d.sql", version)) }

// seesTestData checks all that writeTestData has stored.
func seesTestData(t *testing.T, s *Store) {
	t.Helper()
	list, err := s.Visits(t.Context(), visit.Filter{Site: site}, uuid.Nil, 100)
	require.NoError(t, err)
	require.Len(t, list, 11)
	assert.Equal(t, "/programme", list[10].Path)
	assert.Equal(t, "Porto", *list[10].Card.Location.City)
	require.Len(t, list[10].Earlier, 1)
	assert.Equal(t, "Lisbon", *list[10].Earlier[0].Location.City)
	assert.JSONEq(t, `{"race": 4}`, string(list[0].Attributes))
	assert.Equal(t, []string{visit.MarkBot}, list[1].Marks)
	agree(t, s, site)
	now := start.Add(time.Hour)
	for by, want := range map[visit.By]int{visit.ByCountry: 2, visit.ByPlace: 3, visit.ByPath: 2, visit.ByReferrer: 2} {
		tally, err := s.Tally(t.Context(), visit.Filter{Site: site}, by, now)
		require.NoError(t, err)
		assert.Len(t, tally.Keys, want, by)
		assert.Equal(t, int64(10), tally.Sum(), by)
	}
	written, err := s.Documents().Since(t.Context(), 0)
	require.NoError(t, err)
	require.Len(t, written, 1)
	assert.Equal(t, document.Key{Site: site, Kind: document.Variants, Name: "greeting"}, written[0].Key)
	apart, all, err := s.Quarantine(t.Context(), 10)
	require.NoError(t, err)
	assert.Equal(t, 1, all)
	queued, err := apart[0].Queued()
	require.NoError(t, err)
	keys, err := s.Keys(t.Context())
	require.NoError(t, err)
	assert.Len(t, keys, 2)
	out, err := s.Insert(t.Context(), []visit.QueuedVisit{queued})
	require.NoError(t, err)
	assert.Equal(t, visit.Outcome{Erased: 1}, out, "what was erased stays away")
	add(t, s, made(t, 30, "Lisbon"))
	agree(t, s, site)
}

func writeTestData(t *testing.T, version int64) {
	t.Helper()
	require.NoFileExists(t, dataOf(version), "the data of a version stays as it is")
	url := db.NewEmpty(t)
	s, err := Open(t.Context(), url, 0)
	require.NoError(t, err)
	defer s.Close()
	var visits []visit.Visit
	for i := range 12 {
		v := made(t, i, []string{"Lisbon", "Porto", ""}[i%3])
		switch i {
		case 10:
			v.Marks, v.Path, v.Referrer = []string{visit.MarkBot}, "/robots.txt", nil
		case 11:
			v.Attributes, v.Path, v.Referrer, v.VisitorHash = []byte(`{"race":4}`), "/results", ptr("https://news.example/x"), 77
		}
		visits = append(visits, v)
	}
	add(t, s, visits...)
	porto := visits[1].Card
	porto.Edition.Name = "another"
	require.NoError(t, s.Reenrich(t.Context(), start.Add(-time.Hour), func(v visit.Visit) (card.Card, bool) { return porto, v.ID == visits[0].ID }, func(int, int) {}))
	queued, err := visits[3].Queued()
	require.NoError(t, err)
	_, err = s.Erase(t.Context(), visit.Erasure{ID: visits[3].ID}, start.Add(time.Hour))
	require.NoError(t, err)
	record, err := json.Marshal(queued)
	require.NoError(t, err)
	require.NoError(t, s.SetApart(t.Context(), []visit.SetApart{{ID: visits[3].ID, Time: start, Reason: "made up", Record: record}}))
	_, err = s.Documents().Save(t.Context(), document.Document{Key: document.Key{Site: site, Kind: document.Variants, Name: "greeting"}, Body: []byte(`{"name": "greeting", "default": "hello"}`), MadeBy: "the tests", MadeAt: start}, nil, 0)
	require.NoError(t, err)
	for n := range 2 {
		event, err := access.NewEvent(start, "key made", "the tests", "")
		require.NoError(t, err)
		require.NoError(t, s.AddKey(t.Context(), access.Key{ID: uuid.New(), Name: fmt.Sprint("key ", n), Hash: [32]byte{byte(n)}, Scope: access.Page, Sites: []string{site}, Origins: []string{}, Created: start, Maker: access.Maker{Name: "the tests"}}, event))
	}
	tools, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_dump")
	require.NoError(t, err)
	require.NotEmpty(t, tools)
	dump, err := exec.CommandContext(t.Context(), tools[len(tools)-1], "--data-only", "--inserts", "--load-via-partition-root", "--exclude-table=goose_db_version", url).Output()
	require.NoError(t, err)
	text := fmt.Sprintf("TRUNCATE installation, count_key;\nSELECT ensure_week('%s');\n", start.Format(time.RFC3339))
	for line := range strings.Lines(string(dump)) {
		if strings.HasPrefix(line, "INSERT INTO ") || strings.HasPrefix(line, "SELECT pg_catalog.setval(") {
			text += line
		}
	}
	require.NoError(t, os.MkdirAll("testdata", 0o755))
	require.NoError(t, os.WriteFile(dataOf(version), []byte(text), 0o644))
}
