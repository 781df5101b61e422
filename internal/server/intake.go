package server

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"eastporch/internal/server/intake"
	"eastporch/internal/server/privacy"
)

// openIntake opens the queue of visits and what keeps them private.
func (s *Server) openIntake() (err error) {
	cfg := s.opt.Config
	if s.privacy, err = privacy.Open(filepath.Join(cfg.DataDir, "keys"), time.Duration(cfg.HashDays)*24*time.Hour); err != nil {
		return err
	}
	spool, err := intake.OpenSpool(filepath.Join(cfg.DataDir, "spool"))
	if err != nil {
		return err
	}
	if s.intake, err = intake.New(intake.Options{Log: spool, Sink: s.store, MaxBytes: int64(cfg.Intake.MaxBytes), Logger: s.opt.Log, Now: time.Now}); err != nil {
		return errors.Join(err, spool.Close())
	}
	s.begin(s.stages.Add("the queue of visits", func(context.Context) error { return s.intake.Close() }), "the queue of visits", s.intake.Run)
	return nil
}

// maintainEvery is how often what has had its time is dropped.
const maintainEvery = time.Hour

// maintain makes the partitions to come, and drops visits and keys whose time is
// over, until ctx ends.
func (s *Server) maintain(ctx context.Context) error {
	ticker := time.NewTicker(maintainEvery)
	defer ticker.Stop()
	for {
		now := time.Now()
		dropped, err := s.store.Maintain(ctx, now)
		for _, week := range dropped {
			s.opt.Log.Info("visits of a week were dropped", "week", week.Format(time.DateOnly))
		}
		if err != nil && ctx.Err() == nil {
			s.opt.Log.Warn("maintenance of the store failed", "error", err)
		}
		if err := s.privacy.Maintain(now); err != nil {
			s.opt.Log.Warn("keys of privacy were not destroyed", "error", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
	}
}
