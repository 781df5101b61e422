package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/document"
	"eastporch/internal/server/store/topics"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/papers"
)

// Random saves and drops of a few names, made on the newest revision, on older ones and on none: the table says what rows in
// memory say that share no code with it, of each save and of all that there is afterwards.
func TestDocumentsAgainstRowsInMemory(t *testing.T) {
	t.Parallel()
	rows, model := open(t).Documents(), &papers.Rows{}
	random := rand.New(rand.NewPCG(34, 1))
	pick := func(of ...string) string { return of[random.IntN(len(of))] }
	failed := map[error]int{}
	for n := range 1500 {
		d := document.Document{
			Key:    document.Key{Site: pick("a.example", "b.example"), Kind: document.Kind(pick("companion", "link", "gate", "gate-draft", "notice")), Name: pick("one", "two", "three")},
			MadeBy: pick("Anna", "Ida"), MadeAt: start.Add(time.Duration(n) * time.Second), Changes: []string{},
		}
		if d.Kind == document.Gate || d.Kind == document.GateDraft {
			d.Name = ""
		}
		if random.IntN(4) > 0 || d.Kind == document.Link { // links are never dropped
			d.Body = json.RawMessage(fmt.Sprintf(`{"n": %d}`, n))
		}
		var on *int64
		if random.IntN(2) == 0 {
			on = new(int64)
			*on = random.Int64N(6)
		}
		most := random.IntN(4)
		want, wantErr := model.Save(t.Context(), d, on, most)
		got, err := rows.Save(t.Context(), d, on, most)
		require.Equal(t, wantErr, err, "%d: %+v on %v of %d", n, d.Key, on, most)
		if failed[err]++; err == nil && d.Kind != document.GateDraft { // of which nothing before is kept
			require.Equal(t, []any{want.Revision, want.FirstBy, want.FirstAt}, []any{got.Revision, got.FirstBy, got.FirstAt}, "%d: %+v", n, d.Key)
		}
	}
	assert.Greater(t, failed[nil], 300)
	for _, each := range []error{document.ErrChanged, document.ErrNone, document.ErrTaken, document.ErrFull} {
		assert.Greater(t, failed[each], 5, each)
	}
	same := func(rows interface {
		Since(context.Context, int64) ([]document.Document, error)
	},
	) (list map[document.Key]string) {
		all, err := rows.Since(t.Context(), 0)
		require.NoError(t, err)
		list = map[document.Key]string{}
		for _, d := range all {
			var body any
			if d.Body != nil {
				require.NoError(t, json.Unmarshal(d.Body, &body))
			}
			if list[d.Key] = fmt.Sprint(body, d.MadeBy); d.Kind != document.GateDraft {
				list[d.Key] += fmt.Sprint(" ", d.Revision)
			}
		}
		return list
	}
	assert.Equal(t, same(model), same(rows))
	for key := range same(model) {
		want, err := model.History(t.Context(), key, 0, 1000)
		require.NoError(t, err)
		got, err := rows.History(t.Context(), key, 0, 1000)
		require.NoError(t, err)
		if key.Kind == document.GateDraft {
			assert.Len(t, got, 1)
			continue
		}
		require.Len(t, got, len(want), key)
		for i := range got {
			assert.Equal(t, want[i].Revision, got[i].Revision)
		}
		one, err := rows.Revision(t.Context(), key, want[0].Revision)
		require.NoError(t, err)
		assert.Equal(t, got[0], one)
		_, err = rows.Revision(t.Context(), key, want[0].Revision+1)
		require.ErrorIs(t, err, document.ErrRevision)
	}
}

// Whoever reads what has changed since, while others save at the same time, misses nothing.
func TestChangesAreInTheOrderOfTheCommits(t *testing.T) {
	t.Parallel()
	s := open(t)
	var saving sync.WaitGroup
	for who := range 6 {
		saving.Go(func() {
			for n := range 40 {
				d := document.Document{Key: document.Key{Site: site, Kind: document.Companion, Name: fmt.Sprint("n", (who+n)%9)}, Body: []byte(fmt.Sprint(n)), MadeBy: fmt.Sprint(who), MadeAt: start}
				_, err := s.Documents().Save(t.Context(), d, nil, 0)
				assert.NoError(t, err)
			}
		})
	}
	done := make(chan struct{})
	go func() { saving.Wait(); close(done) }()
	var set *document.Set
	last, over := int64(0), false
	for !over {
		select {
		case <-done:
			over = true
		default:
		}
		list, err := s.Documents().Since(t.Context(), last)
		require.NoError(t, err)
		if set = set.With(list); len(list) > 0 {
			last = list[len(list)-1].Change
		}
	}
	all, err := s.Documents().Since(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, (*document.Set)(nil).With(all), set)
}

// What is told reaches every instance; what was told to nobody is noticed all the same.
func TestEveryInstanceIsTold(t *testing.T) {
	t.Parallel()
	url := db.New(t)
	var watches []*Watch
	for range 3 {
		s, err := Open(t.Context(), url, 0)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		w := s.NewWatch()
		w.askEvery = 50 * time.Millisecond
		watches = append(watches, w)
		first := w.Next(topics.Keys)
		ran := make(chan struct{})
		ctx, stop := context.WithCancel(context.Background())
		go func() { _ = w.Run(ctx); close(ran) }()
		t.Cleanup(func() { stop(); <-ran })
		<-first // it listens
	}
	for _, sql := range []string{`SELECT tell('keys')`, `SELECT nextval('told_keys')`} {
		for range 3 {
			var next []<-chan struct{}
			for _, w := range watches {
				next = append(next, w.Next(topics.Keys))
			}
			_, err := watches[0].store.pool.Exec(t.Context(), sql)
			require.NoError(t, err)
			for _, told := range next {
				<-told
			}
		}
	}
}

// Of several instances one leads, and another when that one stops or loses its connection, which is felt at the next proof.
func TestOneLeads(t *testing.T) {
	t.Parallel()
	url := db.New(t)
	type lead struct {
		who   int
		proof Proof
		ctx   context.Context
	}
	leads := make(chan lead)
	stops := make([]context.CancelFunc, 3)
	var all sync.WaitGroup
	var leading sync.Mutex
	for who := range stops {
		s, err := Open(t.Context(), url, 0)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		w := s.NewWatch()
		w.askEvery = 50 * time.Millisecond
		ctx, stop := context.WithCancel(context.Background())
		stops[who] = stop
		all.Go(func() { _ = w.Run(ctx) })
		all.Go(func() {
			_ = w.Lead(ctx, func(ctx context.Context, proof Proof) {
				assert.True(t, leading.TryLock(), "two lead")
				defer leading.Unlock()
				leads <- lead{who, proof, ctx}
				<-ctx.Done()
			})
		})
	}
	first := <-leads
	require.NoError(t, first.proof(t.Context()))
	stops[first.who]()
	second := <-leads
	assert.NotEqual(t, first.who, second.who)
	require.NoError(t, second.proof(t.Context()))
	s, err := Open(t.Context(), url, 0)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.pool.Exec(t.Context(), `SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND objid = $1 AND granted`, leadingLock)
	require.NoError(t, err)
	<-second.ctx.Done()
	third := <-leads
	require.NoError(t, third.proof(t.Context()))
	for _, stop := range stops {
		stop()
	}
	all.Wait()
}
