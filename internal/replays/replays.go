// Package replays walks settings forward over the past: backtests of what is in force or
// proposed, rehearsals while somebody moves a slider, trials, the search for better
// settings, and what of a past to ask people about.
package replays

import (
	"time"

	"tinbell/internal/lessons"
	"tinbell/internal/store"
)

// Bench is where settings are tried.
type Bench struct {
	store     *store.Store
	lessons   *lessons.Desk
	now       func() time.Time
	rehearsed memory
}

// New makes a bench.
func New(s *store.Store, l *lessons.Desk, now func() time.Time) *Bench {
	return &Bench{store: s, lessons: l, now: now}
}
