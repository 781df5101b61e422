package visits

import (
	"bytes"
	"crypto/sha256"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
)

// noncesKept is how many views are remembered whose page has a wrong clock.
const noncesKept = 10_000

// clockOff is how far a page's clock may be off, for its time to stand in an id.
const clockOff = ahead

// once gives the id of a page's view, the same for one nonce however often it is sent, so that
// the database counts it once: the page's time and what the nonce and the key hash to. Where the
// page's clock is wrong by more than [clockOff], the service's own time stands in it, and the id is
// remembered here.
func (s *Visits) once(nonce, site string, who access.Identity) (uuid.UUID, time.Time, error) {
	now := s.now()
	begin, random, ok := strings.Cut(nonce, "-")
	ms, err := strconv.ParseInt(begin, 36, 64)
	if !ok || err != nil || len(nonce) < 16 || len(nonce) > 64 || len(random) < 8 || strings.Trim(random, "0123456789abcdefghijklmnopqrstuvwxyz") != "" {
		return uuid.Nil, now, invalid.Field("nonce", "it is none", "Give the milliseconds since 1970 in base 36, a dash, and 8 or more random letters and digits.")
	}
	hashed := sha256.New()
	if who.Key != nil {
		hashed.Write(who.Key.ID[:])
	}
	hashed.Write([]byte(site + "\n" + nonce))
	sum := hashed.Sum(nil)
	at := time.UnixMilli(ms)
	if off := now.Sub(at); off > clockOff || off < -clockOff {
		at = now
		if known, ok := s.nonces.Get([sha256.Size]byte(sum)); ok {
			at = known
		} else if before, ok, _ := s.nonces.PeekOrAdd([sha256.Size]byte(sum), now); ok {
			at = before
		}
	}
	id, err := visit.NewID(at, bytes.NewReader(sum))
	if err != nil {
		return uuid.Nil, now, err
	}
	at, _ = visit.TimeOf(id)
	return id, at, nil
}
