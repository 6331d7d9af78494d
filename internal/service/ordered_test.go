package service_test

import (
	"slices"
	"testing"

	"tinbell/internal/dbtest"
	"tinbell/internal/service"
	"tinbell/internal/work"
)

// Work that is ordered, or under way, is not ordered again, and no task is taken for lost
// that has its job: whatever numbers jobs, monitors and tasks happen to have.
func TestWhatIsOrderedIsNotOrderedAgain(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now, func(o *service.Options) { o.Role = "web" }) // nothing is worked on
	q := s.Parts.Queue
	for range 3 { // so that the numbers of jobs are those of other things
		dbtest.Must(t, q.Add(t.Context(), work.Learn{MonitorID: 77, TaskID: 55}))
	}
	for _, c := range []struct {
		what string
		ask  func(ids []int64) ([]int64, error)
		has  int64
	}{
		{"fits", func(ids []int64) ([]int64, error) { return q.Unordered(t.Context(), ids) }, 77},
		{"tasks", func(ids []int64) ([]int64, error) { return q.Orphaned(t.Context(), ids) }, 55},
	} {
		without, err := c.ask([]int64{1, 2, 3, c.has})
		dbtest.Must(t, err)
		slices.Sort(without)
		if !slices.Equal(without, []int64{1, 2, 3}) {
			t.Errorf("%s without a job: %v, want all but %d", c.what, without, c.has)
		}
	}
}
