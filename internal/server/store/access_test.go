package store

import (
	"crypto/sha256"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/server/access"
)

// clock is a time that a test sets.
type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

func TestSessionsEndByRestAndByAge(t *testing.T) {
	t.Parallel()
	c := &clock{start}
	s := open(t)
	sessions := access.NewSessions(s, c.now)
	key := &access.Key{ID: uuid.Must(uuid.NewV7()), Name: "the shop", Scope: access.Admin, Sites: []string{}, Origins: []string{}, Created: start}
	require.NoError(t, s.AddKey(t.Context(), *key, access.Event{ID: uuid.Must(uuid.NewV7())}))
	_, secret, err := sessions.Open(t.Context(), key, "a browser")
	require.NoError(t, err)
	check := func(after time.Duration) error {
		c.at = c.at.Add(after)
		_, err := sessions.Check(t.Context(), secret)
		return err
	}
	require.NoError(t, check(time.Minute))
	for c.at.Before(start.Add(access.SessionAbsolute - access.SessionIdle)) {
		require.NoError(t, check(access.SessionIdle-time.Minute), "whoever is busy stays")
	}
	require.NoError(t, check(start.Add(access.SessionAbsolute-time.Minute).Sub(c.at)))
	require.ErrorIs(t, check(2*time.Minute), access.ErrBadSession, "it ends by age")

	_, secret, err = sessions.Open(t.Context(), key, "a browser")
	require.NoError(t, err)
	require.ErrorIs(t, check(access.SessionIdle+time.Second), access.ErrBadSession, "and by rest")
	list, err := sessions.List(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	_, err = sessions.Check(t.Context(), "porch_session_forged")
	assert.ErrorIs(t, err, access.ErrBadSession)
}

func TestLinksAreGoodOnceAndForAnHour(t *testing.T) {
	t.Parallel()
	c := &clock{start}
	s := open(t)
	sessions := access.NewSessions(s, c.now)
	ever, err := sessions.EverSignedIn(t.Context())
	require.NoError(t, err)
	assert.False(t, ever)
	link, err := sessions.Link(t.Context())
	require.NoError(t, err)
	_, _, err = sessions.OpenWithLink(t.Context(), link, "a browser")
	require.NoError(t, err)
	_, _, err = sessions.OpenWithLink(t.Context(), link, "a browser")
	require.ErrorIs(t, err, access.ErrBadLink)
	late, err := sessions.Link(t.Context())
	require.NoError(t, err)
	c.at = c.at.Add(61 * time.Minute)
	_, _, err = sessions.OpenWithLink(t.Context(), late, "a browser")
	require.ErrorIs(t, err, access.ErrBadLink)
	ever, err = sessions.EverSignedIn(t.Context())
	require.NoError(t, err)
	assert.True(t, ever)
}

func TestKeysReadBackWithTheirEvents(t *testing.T) {
	t.Parallel()
	s := open(t)
	id, err := uuid.NewV7()
	require.NoError(t, err)
	k := access.Key{
		ID: id, Name: "the shop", Scope: access.Page, Start: "porch_page_abcd", Sites: []string{site},
		Origins: []string{"https://heronlake.example"}, Created: start, Hash: sha256.Sum256([]byte("x")),
	}
	event := func(what string) access.Event {
		e, err := access.NewEvent(start, what, "a test", "detail")
		require.NoError(t, err)
		return e
	}
	require.NoError(t, s.AddKey(t.Context(), k, event("key created")))
	require.Error(t, s.AddKey(t.Context(), k, event("never")), "the same again, and no event of it")
	require.NoError(t, s.CountKeyUses(t.Context(), map[uuid.UUID]int64{id: 3, uuid.New(): 9}, start))
	require.NoError(t, s.RenameKey(t.Context(), id, "another", event("key renamed")))
	require.ErrorIs(t, s.RenameKey(t.Context(), uuid.New(), "x", event("never")), access.ErrNoSuch)
	made := k
	made.ID, made.Hash, made.Maker = uuid.Must(uuid.NewV7()), sha256.Sum256([]byte("y")), access.Maker{Name: "key the shop", Key: &id}
	require.NoError(t, s.AddKey(t.Context(), made, event("key created")))
	ended, err := s.RevokeKey(t.Context(), id, false, event("key revoked"))
	require.NoError(t, err)
	assert.Equal(t, []uuid.UUID{id}, ended)
	_, err = s.RevokeKey(t.Context(), id, false, event("never"))
	require.ErrorIs(t, err, access.ErrNoSuch)
	late := made
	late.ID, late.Hash = uuid.Must(uuid.NewV7()), sha256.Sum256([]byte("z"))
	require.ErrorIs(t, s.AddKey(t.Context(), late, event("never")), access.ErrBadKey, "nothing is made with a key that was revoked")
	ended, err = s.RevokeKey(t.Context(), id, true, event("key revoked"))
	require.NoError(t, err)
	assert.Equal(t, []uuid.UUID{made.ID}, ended, "what was made with it can be ended later, too")
	keys, err := s.Keys(t.Context())
	require.NoError(t, err)
	require.Len(t, keys, 2)
	keys = keys[1:]
	assert.Equal(t, k.Hash, keys[0].Hash)
	assert.Equal(t, k.Origins, keys[0].Origins)
	assert.Equal(t, "another", keys[0].Name)
	assert.Equal(t, int64(3), keys[0].Uses)
	assert.NotNil(t, keys[0].Revoked)

	note := event("configuration changed")
	require.NoError(t, s.NoteConfiguration(t.Context(), note))
	note.ID = uuid.New()
	require.NoError(t, s.NoteConfiguration(t.Context(), note), "the same configuration is no news")
	events, err := s.Events(t.Context(), uuid.Nil, 10)
	require.NoError(t, err)
	var what []string
	for _, e := range events {
		what = append(what, e.What)
	}
	assert.Equal(t, []string{"configuration changed", "key revoked", "key revoked", "key created", "key renamed", "key created"}, what)
	older, err := s.Events(t.Context(), events[1].ID, 10)
	require.NoError(t, err)
	assert.Len(t, older, 4)
}
