package visits

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/api"
	"eastporch/internal/core/card"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
)

// textMost is how many bytes are shown of what cannot be read.
const textMost = 400

// Quarantine lists visits that could not be stored, the newest first.
func (s *Visits) Quarantine(ctx context.Context, limit int) (api.Quarantine, error) {
	list, all, err := s.Store.Quarantine(ctx, limit)
	shown := api.Quarantine{Visits: []api.Apart{}, All: all}
	for _, q := range list {
		one := api.Apart{ID: q.ID, Time: q.Time.UTC(), Reason: q.Reason}
		if queued, err := q.Queued(); err == nil {
			one.Row = &queued.Row
		} else {
			text := strings.ToValidUTF8(string(q.Record[:min(textMost, len(q.Record))]), "\ufffd")
			one.Text = &text
		}
		shown.Visits = append(shown.Visits, one)
	}
	return shown, err
}

// Replay stores a visit from quarantine, with what is mended of it.
func (s *Visits) Replay(ctx context.Context, id uuid.UUID, mend api.Mend) (api.Replayed, error) {
	q, err := s.Store.FromQuarantine(ctx, id)
	if err != nil {
		return api.Replayed{}, err
	}
	queued, err := q.Queued()
	if err != nil {
		return api.Replayed{}, invalid.Field("id", err.Error(), "Drop it; nothing of it can be stored.")
	}
	row := &queued.Row
	if mend.ID != nil {
		if row.ID, _, err = s.identify(&api.NewVisit{ID: mend.ID}, access.Identity{}); err != nil {
			return api.Replayed{}, err
		}
	}
	if mend.Site != nil {
		row.Site = *mend.Site
	}
	if mend.Path != nil {
		row.Path = *mend.Path
	}
	for _, field := range []struct {
		to   **string
		from *string
	}{{&row.Referrer, mend.Referrer}, {&row.UserAgent, mend.UserAgent}, {&row.Link, mend.Link}} {
		if field.from != nil {
			*field.to = field.from
		}
	}
	if _, err := s.Sites.Find(row.Site); err != nil {
		return api.Replayed{}, err
	}
	v := visit.Visit{Path: row.Path, Referrer: row.Referrer, UserAgent: row.UserAgent, Link: row.Link}
	if err := checkTexts(&v); err != nil {
		return api.Replayed{}, err
	}
	out, err := s.Store.Insert(ctx, []visit.QueuedVisit{queued})
	switch {
	case errors.Is(err, visit.ErrRefused):
		return api.Replayed{}, invalid.Field("visit", err.Error(), "Mend what the reason names, or drop the visit.")
	case err != nil:
		return api.Replayed{}, err
	case len(out.Conflicts) > 0:
		return api.Replayed{}, invalid.Field("id", "it was stored before with other content", "Give the visit another id, or drop it.")
	}
	_, err = s.Store.Release(ctx, id)
	return api.Replayed{ID: row.ID, Stored: out.Stored == 1}, err
}

// Drop drops a visit from quarantine. The error is [visit.ErrNoVisit] where there is none.
func (s *Visits) Drop(ctx context.Context, id uuid.UUID) error {
	ok, err := s.Store.Release(ctx, id)
	if err == nil && !ok {
		err = fmt.Errorf("%s: %w", id, visit.ErrNoVisit)
	}
	return err
}

// readAgainDays is how far back visits are read again where it is not said, in days.
const readAgainDays = 30

// Reenrich reads stored visits since a time again from an edition, the one in use.
func (s *Visits) Reenrich(ctx context.Context, since *time.Time, edition string) (api.ReenrichAnswer, error) {
	from := s.now().AddDate(0, 0, -readAgainDays)
	if since != nil {
		from = *since
	}
	answer := api.ReenrichAnswer{Edition: edition, Kept: map[string]int{}}
	err := s.Store.Reenrich(ctx, from,
		func(v visit.Visit) (card.Card, bool) {
			again, kept := visit.Reenrich(s.Cards, edition, v)
			if kept != "" {
				answer.Kept[kept]++
			}
			return again, kept == ""
		},
		func(seen, changed int) { answer.Seen, answer.Reenriched = seen, changed })
	return answer, err
}
