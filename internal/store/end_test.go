package store_test

import (
	"context"
	"errors"
	"slices"
	"testing"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/pgtest"
)

// What transactions leave for their end is done once for each key, in the order of keys,
// after all else; of a part that failed nothing is.
func TestWhatIsLeftForTheEndIsDoneOnceAndInOrder(t *testing.T) {
	s := open(t)
	var done []string
	leave := func(tx pgx.Tx, keys ...string) {
		for _, key := range keys {
			tx.(interface {
				AtEnd(string, func(context.Context, pgx.Tx) error)
			}).AtEnd(key, func(context.Context, pgx.Tx) error {
				done = append(done, key)
				return nil
			})
		}
	}
	failed := errors.New("a part that failed")
	pgtest.Must(t, s.InTx(t.Context(), func(tx pgx.Tx) error {
		leave(tx, "metric 2", "metric 1", "metric 2")
		if err := s.In(tx).InTx(t.Context(), func(inner pgx.Tx) error {
			leave(inner, "monitor 9", "metric 1")
			return nil
		}); err != nil {
			return err
		}
		err := s.In(tx).InTx(t.Context(), func(inner pgx.Tx) error {
			leave(inner, "monitor 7")
			return failed
		})
		if !errors.Is(err, failed) || len(done) > 0 {
			t.Errorf("before the end: %v, %v", err, done)
		}
		return nil
	}))
	if want := []string{"metric 1", "metric 2", "monitor 9"}; !slices.Equal(done, want) {
		t.Errorf("done: %v, want %v", done, want)
	}
	done = nil
	if err := s.InTx(t.Context(), func(tx pgx.Tx) error {
		leave(tx, "metric 1")
		return failed
	}); !errors.Is(err, failed) || len(done) > 0 {
		t.Errorf("of what failed was done: %v, %v", done, err)
	}
}
