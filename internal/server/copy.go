package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/checkup"
	"eastporch/internal/core/document"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/server/lastknown"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/store"
)

// openCopy reads what the database said last, for a start while it is away.
func (s *Server) openCopy(url string) {
	var err error
	s.copy, err = lastknown.Open(filepath.Join(s.opt.Config.DataDir, "keys", "last-known.json"), url, time.Now)
	if err != nil {
		s.opt.Log.Warn("the copy of what the database said last cannot be read", "error", err)
	}
	s.begin(s.stages.Add("the copy of what the database says", nil), "the copy of what the database says", func(ctx context.Context) error {
		return s.copy.Run(ctx, func(err error) {
			s.opt.Log.Warn("what the database says is not copied; a start while it is away would use an older copy", "error", err)
		})
	})
}

// prepareAgain is how soon a database that is away is tried again.
const prepareAgain = 2 * time.Second

// prepare brings the database up to date. Where it does not answer, the service goes on with the copy of what it said
// last, and prepares it as soon as it answers; without a copy it waits, and answers nothing until then.
func (s *Server) prepare(ctx context.Context, stage *lifecycle.Stage) error {
	err := s.store.Prepare(ctx)
	if !errors.Is(err, visit.ErrAway) {
		return err
	}
	at, known := s.copy.Known()
	if !known {
		return s.awaitDatabase(ctx, err)
	}
	s.opt.Log.Error("the database does not answer; the service starts from its copy of keys, rules and what owners wrote", "copy", at, "old", time.Since(at).Round(time.Second), "error", err)
	s.begin(stage, "the database", func(ctx context.Context) error {
		for {
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(prepareAgain):
			}
			switch err := s.store.Prepare(ctx); {
			case err == nil:
				s.opt.Log.Info("the database answers again")
				return s.catchUp(ctx)
			case !errors.Is(err, visit.ErrAway) && ctx.Err() == nil:
				return err
			}
		}
	})
	return nil
}

// awaitDatabase answers 503 at both listeners until the database answers. why is what it said first.
func (s *Server) awaitDatabase(ctx context.Context, why error) error {
	s.opt.Log.Error("the database does not answer, and there is no copy of keys and rules: every request is answered with 503 until it does", "error", why)
	if err := s.bindAll(ctx, waiting()); err != nil {
		return err
	}
	for _, d := range s.endpoints {
		d.serve()
	}
	for {
		select {
		case <-ctx.Done():
			for _, d := range s.endpoints {
				_ = d.http.Close()
			}
			return ctx.Err()
		case <-time.After(prepareAgain):
		}
		err := s.store.Prepare(ctx)
		if err == nil {
			s.opt.Log.Info("the database answers")
			return nil
		}
		if !errors.Is(err, visit.ErrAway) && ctx.Err() == nil {
			for _, d := range s.endpoints {
				_ = d.http.Close()
			}
			return err
		}
	}
}

// waiting answers while keys and rules are not known: no key is believed, and no gate is open.
func waiting() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Cache-Control", "no-store")
		switch r.URL.Path {
		case "/livez":
			h.Set("Content-Type", "text/plain; charset=utf-8")
			_, _ = io.WriteString(w, "alive\n")
			return
		case "/readyz":
			h.Set("Content-Type", "text/plain; charset=utf-8")
			w.WriteHeader(http.StatusServiceUnavailable)
			_, _ = io.WriteString(w, "not-ready\n")
			return
		case "/v1/gate/decide", "/v1/handover":
			h.Set(handover.GateField, handover.Undecided)
		}
		p := problem.From(visit.ErrAway)
		text, _ := json.Marshal(p.Problem) // strings and numbers always marshal
		h.Set("Content-Type", "application/problem+json")
		h.Set("Retry-After", "5")
		w.WriteHeader(p.Status)
		_, _ = w.Write(text)
	})
}

// catchUp does what a start does at the database.
func (s *Server) catchUp(ctx context.Context) error {
	if err := s.takeOver(ctx); err != nil {
		return err
	}
	if err := s.noteConfiguration(ctx); err != nil && !errors.Is(err, visit.ErrAway) {
		return err
	}
	return nil
}

// takeOver puts keys into force that were made while no service ran. While the database is away they wait on.
func (s *Server) takeOver(ctx context.Context) error {
	n, err := s.keys.TakeOver(ctx, s.opt.Config.DataDir)
	if n > 0 {
		s.opt.Log.Info("keys that waited are in force", "keys", n)
	}
	if errors.Is(err, visit.ErrAway) {
		return nil
	}
	return err
}

// checkCopy is a finding where the service runs from a copy.
func (s *Server) checkCopy() []checkup.Diagnostic {
	at, standing := s.copy.Standing()
	if !standing {
		return nil
	}
	return []checkup.Diagnostic{{
		Name: "database", State: checkup.Attention, Title: "The database has not answered since the start.",
		Text: fmt.Sprintf("Keys, rules and what owners wrote are as they were %s ago (%s). Visits wait in the queue; nothing can be changed. Start the database, or mend database.url: the service takes it up by itself.",
			time.Since(at).Round(time.Minute), at.Format("2006-01-02 15:04 UTC")),
		Lines: []string{},
	}}
}

// copiedKeys are the keys of the database, or those of the copy.
type copiedKeys struct {
	*store.Store
	copy *lastknown.Copy
}

// A copiedKey is a key as the copy has it, which changes with no use.
type copiedKey struct {
	access.Key
	Hash []byte `json:"sha256"`
}

func (k copiedKeys) Keys(ctx context.Context) (all []access.Key, err error) {
	list, err := lastknown.Read(k.copy, "keys", func() ([]copiedKey, error) {
		var err error
		all, err = k.Store.Keys(ctx)
		copied := make([]copiedKey, len(all))
		for i, one := range all {
			one.LastUsed, one.Uses = nil, 0
			copied[i] = copiedKey{one, one.Hash[:]}
		}
		return copied, err
	})
	if err != nil || all != nil {
		return all, err
	}
	for _, one := range list {
		copy(one.Key.Hash[:], one.Hash)
		all = append(all, one.Key)
	}
	return all, nil
}

// copiedDocuments are the documents of the database, or those of the copy.
type copiedDocuments struct {
	store.Documents
	copy *lastknown.Copy
	all  *document.Set // that were read
}

// Since is asked by one goroutine at a time.
func (r *copiedDocuments) Since(ctx context.Context, change int64) ([]document.Document, error) {
	fresh, err := r.Documents.Since(ctx, change)
	if err == nil && len(fresh) == 0 && r.all != nil {
		return nil, nil
	}
	if err == nil && r.all == nil && change > 0 { // what was read so far is of the copy
		before, wrong := r.Documents.Since(ctx, 0)
		if wrong != nil {
			return nil, wrong
		}
		r.all = r.all.With(before)
	}
	kept, err := lastknown.Read(r.copy, "documents", func() ([]document.Document, error) {
		if err == nil {
			r.all = r.all.With(fresh)
		}
		return r.all.List(), err
	})
	if err != nil || r.all != nil {
		return fresh, err
	}
	return kept, nil
}

// installationID is what tells this installation from others.
func (s *Server) installationID(ctx context.Context) (uuid.UUID, error) {
	return lastknown.Read(s.copy, "installation", func() (uuid.UUID, error) { return s.store.Installation(ctx) })
}
