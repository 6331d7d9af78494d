package watch

import (
	"sync"
	"time"

	"tinbell/core/arrival"
)

// patterns keeps what was learned of arrivals: learning it reads weeks of loads,
// and asking whether one is late does not.
type patterns struct {
	mu    sync.Mutex
	known map[patternKey]learnedPattern
}

// patternKey says whose arrivals: a monitor's or a job's.
type patternKey struct {
	kind string
	id   int64
}

type learnedPattern struct {
	version time.Time // of what it was learned for
	at      time.Time
	pattern *arrival.Pattern
	err     error // there are too few
}

// of gives a pattern that was learned for a version and not too long ago, learning
// it otherwise. That there are too few arrivals is kept for moments.
func (p *patterns) of(key patternKey, version time.Time, lasts time.Duration, learn func() (*arrival.Pattern,
	error)) (*arrival.Pattern, error) {
	p.mu.Lock()
	known, there := p.known[key]
	p.mu.Unlock()
	if known.err != nil {
		lasts = 10 * time.Second
	}
	if key.kind == "job" {
		version = known.version // nothing fits jobs: their patterns age
	}
	if there && known.version.Equal(version) && time.Since(known.at) < lasts {
		return known.pattern, known.err
	}
	pattern, err := learn()
	if _, few := err.(arrival.TooFew); err != nil && !few {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.known == nil {
		p.known = map[patternKey]learnedPattern{}
	}
	p.known[key] = learnedPattern{version, time.Now(), pattern, err}
	return pattern, err
}
