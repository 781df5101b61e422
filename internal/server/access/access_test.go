package access

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestScopes(t *testing.T) {
	for i, has := range []Scope{Nobody, Page, Server, Admin} {
		for j, wants := range []Scope{Nobody, Page, Server, Admin} {
			assert.Equal(t, i >= j, has.Includes(wants), "%q includes %q", has, wants)
		}
	}
	assert.False(t, Scope("god").Includes(Nobody), "an unknown scope may do nothing")
	assert.False(t, Scope("god").Valid())
	assert.False(t, Nobody.Valid())
}

func TestOrigins(t *testing.T) {
	for _, good := range []string{"https://heronlake.example", "http://localhost:3000", "http://[::1]:8080"} {
		assert.NoError(t, CheckOrigin(good))
	}
	for _, bad := range []string{"", "null", "*", "heronlake.example", "https://heronlake.example/", "https://Heronlake.example", "ftp://x.example", "https://a@b.example"} {
		assert.Error(t, CheckOrigin(bad), bad)
	}
}

// memory is a store of keys; while away is set it does not answer.
type memory struct {
	mu   sync.Mutex
	keys map[uuid.UUID]Key
	away error
}

func (m *memory) Keys(context.Context) ([]Key, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var list []Key
	for _, k := range m.keys {
		list = append(list, k)
	}
	return list, m.away
}

func (m *memory) change(id uuid.UUID, f func(*Key)) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	k := m.keys[id]
	f(&k)
	m.keys[id] = k
	return m.away
}

func (m *memory) AddKey(_ context.Context, k Key, _ Event) error {
	return m.change(k.ID, func(to *Key) { *to = k })
}

func (m *memory) RenameKey(_ context.Context, id uuid.UUID, name string, _ Event) error {
	return m.change(id, func(k *Key) { k.Name = name })
}

func (m *memory) RevokeKey(_ context.Context, id uuid.UUID, _ bool, e Event) ([]uuid.UUID, error) {
	return []uuid.UUID{id}, m.change(id, func(k *Key) { k.Revoked = &e.Time })
}

func (m *memory) MadeWith(context.Context, uuid.UUID, time.Time, time.Time) (Made, error) {
	return Made{}, nil
}

func (m *memory) CountKeyUses(_ context.Context, uses map[uuid.UUID]int64, _ time.Time) error {
	if m.away != nil {
		return m.away
	}
	for id, n := range uses {
		_ = m.change(id, func(k *Key) { k.Uses += n })
	}
	return nil
}

func newKeys(t testing.TB, m *memory) *Keys {
	t.Helper()
	k, err := NewKeys(context.Background(), m, slog.New(slog.DiscardHandler), time.Now)
	require.NoError(t, err)
	return k
}

func TestKeys(t *testing.T) {
	m := &memory{keys: map[uuid.UUID]Key{}}
	here, there := newKeys(t, m), newKeys(t, m) // two instances of one database
	key, secret, err := here.Create(t.Context(), Key{Name: "the shop", Scope: Server})
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(secret, "porch_server_"))
	assert.True(t, strings.HasPrefix(secret, key.Start))
	assert.Less(t, len(key.Start), len(secret)-40, "the start tells little of the secret")
	stored := m.keys[key.ID]
	assert.NotContains(t, fmt.Sprintf("%+v", stored), secret[len(key.Start):], "the secret is not kept")

	found, err := here.Ring().Check(secret)
	require.NoError(t, err)
	assert.Equal(t, key.ID, found.ID)
	_, err = there.Ring().Check(secret)
	require.ErrorIs(t, err, ErrBadKey, "another instance has not read it yet")
	require.NoError(t, there.Renew(t.Context()))
	_, err = there.Ring().Check(secret)
	require.NoError(t, err)

	for _, bad := range []string{secret + "x", secret[:len(secret)-1], strings.ToUpper(secret), secretStart, strings.Repeat("x", 1<<20)} {
		_, err := here.Ring().Check(bad)
		assert.ErrorIs(t, err, ErrBadKey)
	}
	_, err = here.Ring().Check("")
	assert.ErrorIs(t, err, ErrNoKey)

	m.away = errors.New("away")
	require.Error(t, there.Renew(t.Context()))
	_, err = there.Ring().Check(secret)
	require.NoError(t, err, "while the database is away the copy of before stands")
	m.away = nil

	_, err = here.Revoke(t.Context(), key.ID, false, "a test")
	require.NoError(t, err)
	_, err = here.Ring().Check(secret)
	require.ErrorIs(t, err, ErrBadKey, "felt here at once")
	require.NoError(t, there.Renew(t.Context()))
	_, err = there.Ring().Check(secret)
	require.ErrorIs(t, err, ErrBadKey, "and elsewhere after a renewal, which comes when it is told")
	require.NoError(t, here.Count(t.Context()))
	require.NoError(t, there.Count(t.Context()))
	assert.Equal(t, int64(3), m.keys[key.ID].Uses, "each use is counted once, and none is lost while the database is away")
}

func TestManyKeysOfOneStart(t *testing.T) {
	m := &memory{keys: map[uuid.UUID]Key{}}
	k := newKeys(t, m)
	var secrets []string
	for range 20 {
		key, secret, err := k.Create(t.Context(), Key{Name: "x", Scope: Page, Origins: []string{"https://heronlake.example"}})
		require.NoError(t, err)
		require.NoError(t, m.change(key.ID, func(k *Key) { k.Start = "porch_page_same" }))
		secrets = append(secrets, secret)
	}
	require.NoError(t, k.Renew(t.Context()))
	found := 0
	for one := k.Ring().by["porch_page_same"]; one != nil; one = one.next {
		found++
	}
	assert.Equal(t, len(secrets), found)
	assert.True(t, k.Ring().Any(Page))
	assert.False(t, k.Ring().Any(Admin))
}

func TestLimiter(t *testing.T) {
	l := NewLimiter(2, 4)
	now := time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)
	for i := range 4 {
		q, ok := l.Take("a", now)
		assert.True(t, ok)
		assert.Equal(t, 3-i, q.Remaining)
	}
	q, ok := l.Take("a", now)
	assert.False(t, ok)
	assert.Equal(t, 500*time.Millisecond, q.Wait)
	assert.Equal(t, 2*time.Second, q.Reset)
	_, ok = l.Take("b", now)
	assert.True(t, ok, "others are not held up")
	_, ok = l.Take("a", now.Add(q.Wait))
	assert.True(t, ok)
}

func TestLimiterMemoryIsBounded(t *testing.T) {
	l := NewLimiter(1, 1)
	now := time.Now()
	_, _ = l.Take("steady", now)
	for i := range 5 * generation {
		l.Take(fmt.Sprint(i), now)
		if i%100 == 0 {
			_, ok := l.Take("steady", now)
			require.False(t, ok, "whoever is seen all the time is not forgotten")
		}
	}
	assert.LessOrEqual(t, len(l.young)+len(l.old), 2*generation+1)
}

func BenchmarkCheck(b *testing.B) {
	k := newKeys(b, &memory{keys: map[uuid.UUID]Key{}})
	var secret string
	for range 1000 {
		_, s, err := k.Create(context.Background(), Key{Name: "x", Scope: Page})
		require.NoError(b, err)
		secret = s
	}
	b.ReportAllocs()
	b.ResetTimer()
	for b.Loop() {
		if _, err := k.Ring().Check(secret); err != nil {
			b.Fatal(err)
		}
	}
}
