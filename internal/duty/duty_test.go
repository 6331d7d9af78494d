package duty_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"tinbell/internal/dbtest"
	"tinbell/internal/duty"
	"tinbell/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

func log() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

// next waits for the end of a round.
func next(t *testing.T, s *duty.Service) error {
	t.Helper()
	select {
	case err := <-s.Rounds():
		return err
	case <-time.After(time.Minute):
		t.Fatal("no round has ended in ten seconds")
		return nil
	}
}

func TestADutyGoesOnAfterErrorsAndPanics(t *testing.T) {
	var rounds atomic.Int64
	s := duty.New(duty.Config{Name: "test", Every: time.Millisecond, Everywhere: true, Round: func(context.Context) error {
		switch rounds.Add(1) {
		case 1:
			return errors.New("a bad day")
		case 2:
			panic("a worse one")
		}
		return nil
	}}, nil, log())
	s.Start(t.Context())
	defer s.Stop()
	seen := map[string]bool{}
	for !seen["fine"] {
		if err := next(t, s); err != nil {
			seen[err.Error()] = true
		} else {
			seen["fine"] = true
		}
	}
	if rounds.Load() < 3 {
		t.Errorf("%d rounds", rounds.Load())
	}
}

func TestARoundThatHangsIsEnded(t *testing.T) {
	s := duty.New(duty.Config{Name: "test", Every: time.Hour, Within: 10 * time.Millisecond, Everywhere: true,
		Round: func(ctx context.Context) error {
			<-ctx.Done()
			return ctx.Err()
		}}, nil, log())
	s.Start(t.Context())
	defer s.Stop()
	if err := next(t, s); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
}

func TestOneSubjectsTroubleIsItsOwn(t *testing.T) {
	done := []string{}
	err := duty.Each(t.Context(), []string{"a", "b", "c", "d"}, func(s string) string { return "subject " + s }, func(s string) error {
		switch s {
		case "a":
			return errors.New("no zone")
		case "c":
			panic("no sense")
		}
		done = append(done, s)
		return nil
	})
	if strings.Join(done, "") != "bd" {
		t.Errorf("done: %v", done)
	}
	for _, want := range []string{"subject a: no zone", "subject c: it broke off: no sense"} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("%v does not say %q", err, want)
		}
	}
}

// Of two processes on one database one leads; when it is gone the other does.
func TestOneLeadsAndAnotherTakesOver(t *testing.T) {
	s := dbtest.Start(t, time.Now())
	url := s.NewDatabase(t)
	open := func() *store.Store {
		v, err := store.Open(t.Context(), url)
		dbtest.Must(t, err)
		t.Cleanup(v.Close)
		return v
	}
	first, second := duty.NewLeader(open()), duty.NewLeader(open())
	first.Start(t.Context())
	second.Start(t.Context())
	defer second.Stop()
	if !first.Leads() || second.Leads() {
		t.Fatalf("the first leads: %t, the second: %t", first.Leads(), second.Leads())
	}
	var rounds atomic.Int64
	d := duty.New(duty.Config{Name: "test", Every: time.Millisecond,
		Round: func(context.Context) error { rounds.Add(1); return nil }}, second.Leads, log())
	d.Start(t.Context())
	defer d.Stop()
	first.Stop()
	if err := next(t, d); err != nil || !second.Leads() {
		t.Errorf("after the first is gone: %v, leads %t", err, second.Leads())
	}
}
