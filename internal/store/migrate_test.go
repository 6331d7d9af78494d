package store_test

import (
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"tinbell/internal/pgtest"
	"tinbell/internal/store"
)

func changes(more ...string) fstest.MapFS {
	files := fstest.MapFS{"00001_first.sql": {Data: []byte("-- +goose Up\ncreate table thing (id int);\n-- +goose Down\ndrop table thing;\n")}}
	for i, text := range more {
		name := "0000" + string(rune('2'+i)) + "_more.sql"
		files[name] = &fstest.MapFile{Data: []byte("-- +goose Up\n" + text + "\n-- +goose Down\nselect 1;\n")}
	}
	return files
}

func TestTablesAreChangedOnceAndNotUnderWhoCouldNotGoOn(t *testing.T) {
	s := pgtest.Empty(t)
	var wait sync.WaitGroup
	errs := make([]error, 6)
	for i := range errs {
		wait.Go(func() {
			errs[i] = store.BringUpToDate(t.Context(), s, changes("alter table thing add column size int;"))
		})
	}
	wait.Wait()
	for _, err := range errs {
		pgtest.Must(t, err)
	}
	// An earlier program leaves tables of a newer one alone.
	if err := store.BringUpToDate(t.Context(), s, changes()); err == nil || !strings.Contains(err.Error(), "newer version (2)") {
		t.Errorf("an earlier program on newer tables: %v", err)
	}
	running, err := store.Holding(t.Context(), s)
	pgtest.Must(t, err)
	mild, hard := "alter table thing add column name text;", "-- Not beside earlier versions.\nalter table thing drop column size;"
	pgtest.Must(t, store.BringUpToDate(t.Context(), s, changes("alter table thing add column size int;", mild)))
	if err := store.BringUpToDate(t.Context(), s, changes("alter table thing add column size int;", mild, hard)); err == nil ||
		!strings.Contains(err.Error(), "still runs on it (processes: 1)") {
		t.Errorf("under a running process: %v", err)
	}
	running()
	pgtest.Must(t, store.BringUpToDate(t.Context(), s, changes("alter table thing add column size int;", mild, hard)))
}
