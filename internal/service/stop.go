package service

import (
	"context"
	"sync"
	"time"
)

const (
	// requestsEnd is how long requests under way may take until they are cut off,
	// jobsEnd the same of jobs, which are then taken up again by whoever runs next; cutEnd is
	// what those get that were cut off. All of it is over within twenty seconds.
	requestsEnd, jobsEnd, cutEnd = 10 * time.Second, 10 * time.Second, 5 * time.Second
)

// Stop takes in nothing more, lets requests and jobs end side by side, then ends what is
// still under way, and brings everything down.
func (s *Service) Stop() {
	limit := func(d time.Duration, stop func(context.Context) error) error {
		ctx, cancel := context.WithTimeout(context.Background(), d)
		defer cancel()
		return stop(ctx)
	}
	s.ending.Store(true) // who balances load sends nothing more
	var ends sync.WaitGroup
	ends.Go(func() {
		if s.server != nil && limit(requestsEnd, s.server.Shutdown) != nil {
			s.server.Close()
		}
	})
	ends.Go(func() {
		for _, d := range s.duties {
			d.Stop()
		}
		if q := s.Parts.Queue; q != nil && q.Started() && limit(jobsEnd, q.Stop) != nil {
			limit(cutEnd, q.Cancel)
		}
	})
	ends.Wait()
	s.cancel()
	if s.leader != nil {
		s.leader.Stop()
	}
	if s.Parts.Faults != nil {
		s.Parts.Faults.Stop()
		s.Parts.Notifier.Stop()
	}
	if s.Parts.Pulse != nil {
		s.Parts.Pulse.Stop()
	}
	if s.Parts.Warehouses != nil {
		s.Parts.Warehouses.Close()
	}
	if s.telemetry != nil {
		limit(cutEnd, s.telemetry.Stop)
	}
	if s.alive != nil {
		s.alive.release()
	}
	if s.Parts.Store != nil {
		s.Parts.Store.Close()
	}
	if s.Postgres != nil {
		s.Postgres.Stop()
	}
}
