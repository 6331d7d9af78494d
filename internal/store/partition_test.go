package store_test

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"tinbell/internal/pgtest"
	"tinbell/internal/store"
)

// In parts samples are written, packed, corrected, read and forgotten as where they lie whole.
func TestSamplesInPartsAreWrittenAndReadAsWhole(t *testing.T) {
	inParts = 5
	t.Cleanup(func() { inParts = 1 })
	for name, test := range map[string]func(*testing.T){
		"replaced": TestSamplesAreReplacedOnlyWhereTheyChange, "packed": TestPackingChangesNothingThatIsRead,
		"many":    TestManySamplesAtOnceAreCountedOnce,
		"at once": TestPackingAndWritingAtOnceLoseNothing, "forgotten": TestOldSamplesAreForgottenByTheDatasetsRule,
		"by index": TestReadingASeriesUsesItsIndex,
	} {
		t.Run(name, test)
	}
}

// Samples move into parts, into others and back while they are written, and none is lost.
func TestSamplesMoveIntoPartsWhileTheyAreWritten(t *testing.T) {
	database := pgtest.Empty(t)
	if err := store.Partition(t.Context(), database, 4); err == nil || !strings.Contains(err.Error(), "no records yet") {
		t.Errorf("an empty database: %v", err)
	}
	s, err := store.Open(t.Context(), database)
	pgtest.Must(t, err)
	t.Cleanup(s.Close)
	m, _ := metric(t, s)
	ids, err := s.EnsureSeries(t.Context(), m.ID, strings.Split("abcdefghijklmnop", ""))
	pgtest.Must(t, err)
	put := func(hour int) {
		for _, id := range ids {
			put(t, s, value(id, hour, float64(hour)))
		}
	}
	put(-500)
	ctx, stop := context.WithCancel(t.Context())
	var writing sync.WaitGroup
	wrote := 0
	writing.Go(func() {
		for hour := 0; ctx.Err() == nil; hour++ {
			put(hour - 40)
			wrote++
			time.Sleep(time.Millisecond)
		}
	})
	for _, parts := range []int{7, 16, 1} {
		pgtest.Must(t, store.Partition(t.Context(), database, parts))
		if n, err := store.Parts(t.Context(), database); err != nil || n != parts {
			t.Errorf("moved into %d parts there are %d (%v)", parts, n, err)
		}
	}
	stop()
	writing.Wait()
	for segment, id := range ids {
		list := read(t, s, id, now.AddDate(0, -1, 0), now.AddDate(1, 0, 0))
		if len(list) != wrote+1 {
			t.Errorf("%s: of %d samples %d are there", segment, wrote+1, len(list))
		}
	}
	for _, wrong := range []int{0, -3, 129} {
		if err := store.Partition(t.Context(), database, wrong); err == nil || !strings.Contains(err.Error(), "1 (whole) to 128") {
			t.Errorf("%d parts: %v", wrong, err)
		}
	}
	// A later start finds them as they are, and brings nothing back.
	pgtest.Must(t, store.Partition(t.Context(), database, 3))
	later, err := store.Open(t.Context(), database)
	pgtest.Must(t, err)
	later.Close()
	if n, err := store.Parts(t.Context(), database); err != nil || n != 3 {
		t.Errorf("after a start there are %d (%v)", n, err)
	}
}
