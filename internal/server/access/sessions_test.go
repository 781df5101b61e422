package access

import (
	"context"
	"crypto/sha256"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oneSession is a store of one session, of which a test says what happens while it is read.
type oneSession struct {
	sessionStore
	ended   bool
	reads   int
	reading func()
}

func (s *oneSession) SessionOf(context.Context, [sha256.Size]byte, time.Time, time.Time) (Session, error) {
	s.reads++
	if s.ended {
		return Session{}, ErrBadSession
	}
	if s.reading != nil {
		s.reading()
	}
	return Session{ID: uuid.UUID{1}}, nil
}

func (s *oneSession) EndSession(context.Context, uuid.UUID, Event) error { s.ended = true; return nil }

func (s *oneSession) SessionInForce(context.Context, uuid.UUID, time.Time, time.Time) (bool, error) {
	return !s.ended, nil
}

func TestASessionIsReadOnceASecond(t *testing.T) {
	now := time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)
	store := &oneSession{}
	sessions := NewSessions(store, func() time.Time { return now })
	for range 50 {
		for range 3 {
			_, err := sessions.Check(t.Context(), "secret")
			require.NoError(t, err)
		}
		now = now.Add(fresh)
	}
	assert.Equal(t, 50, store.reads)
	for i := range 3 * maxSeen { // others do not grow what is remembered
		_, err := sessions.Check(t.Context(), string(rune('a'+i)))
		require.NoError(t, err)
	}
	assert.LessOrEqual(t, sessions.seen.Len(), maxSeen)
}

// A session may end while it is being read: what was read before is not believed after.
func TestASessionThatEndsWhileItIsReadHasEnded(t *testing.T) {
	now := time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)
	store := &oneSession{}
	sessions := NewSessions(store, func() time.Time { return now })
	store.reading = func() { require.NoError(t, sessions.End(t.Context(), uuid.UUID{1}, "somebody")) }
	_, err := sessions.Check(t.Context(), "secret")
	require.NoError(t, err, "when it was read, it was in force")
	_, err = sessions.Check(t.Context(), "secret")
	require.ErrorIs(t, err, ErrBadSession)
}
