package store_test

import (
	"fmt"
	"testing"
	"time"

	"tinbell/internal/pgtest"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

func TestWhatGrowsGoesByPolicyAndWhatPeopleSaidStays(t *testing.T) {
	s, err := store.Open(t.Context(), pgtest.Empty(t))
	pgtest.Must(t, err)
	t.Cleanup(s.Close)
	now := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	do := func(query string, args ...any) {
		t.Helper()
		_, err := s.DB.Exec(query, args...)
		pgtest.Must(t, err)
	}
	do(`insert into source (name, kind) values ('w', 'push')`)
	do(`insert into dataset (source_id, namespace, name) select id, 'n', 'raw.gates' from source`)
	do(`insert into job (namespace, name) values ('n', 'loader')`)
	for _, days := range []int{1, 100, 500, 900} {
		at := now.AddDate(0, 0, -days)
		do(`insert into run (id, job_id, state, heard_at) select gen_random_uuid(), id, 'complete', $1 from job`, at)
		do(`insert into load (dataset_id, at, rows) select id, $1, 5 from dataset`, at)
		do(`insert into task (what, subject, state, finished_at) values ('learn', 'x', 'done', $1)`, at)
		do(`insert into column_version (dataset_id, seen_at, columns) select id, $1, '[]' from dataset`, at)
		do(`insert into delivery (dataset_id, path, bytes, landed_at, seen_at, state) select id, $1, 5, $2, $2, 'taken' from dataset`, fmt.Sprint(days, ".csv"), at)
		do(`insert into incident (reference, dataset_id, started_at, title) select $1, id, $2, 'silent' from dataset`,
			fmt.Sprint("INC-", days), at)
	}
	do(`insert into task (what, subject) values ('learn', 'under way')`)
	// A round is bounded; what is left goes in the next.
	do(`insert into load (dataset_id, at, rows) select d.id, '2020-01-01'::timestamptz + n * interval '1 minute', 1 from dataset d, generate_series(1, 250000) n`)
	gone, err := s.ForgetRecords(t.Context(), 0, now)
	pgtest.Must(t, err)
	if len(gone) != 0 {
		t.Errorf("for ever: %v", gone)
	}
	gone, err = s.ForgetRecords(t.Context(), 400, now)
	pgtest.Must(t, err)
	if gone["runs"] != 2 || gone["tasks"] != 2 || gone["column versions"] != 2 || gone["loads"] != 200_000 {
		t.Errorf("%v", gone)
	}
	gone, err = s.ForgetRecords(t.Context(), 400, now)
	pgtest.Must(t, err)
	if gone["loads"] != 50_002 {
		t.Errorf("in the next round: %v", gone)
	}
	pgtest.Must(t, s.ForgetDeliveries(t.Context(), 1, []string{"900.csv"}, now.AddDate(0, 0, -400)))
	for query, want := range map[string]int{`select count(*) from run`: 2, `select count(*) from load`: 2,
		`select count(*) from task`: 3, `select count(*) from column_version`: 2,
		`select count(*) from delivery`: 3, `select count(*) from incident`: 4} {
		var n int
		pgtest.Must(t, s.DB.Get(&n, query))
		if n != want {
			t.Errorf("%s: %d, want %d", query, n, want)
		}
	}
	// The newest version of columns stays, however old.
	do(`delete from column_version where seen_at > $1`, now.AddDate(0, 0, -400))
	do(`insert into column_version (dataset_id, seen_at, columns) select id, $1, '[]' from dataset`, now.AddDate(0, 0, -600))
	_, err = s.ForgetRecords(t.Context(), 400, now)
	pgtest.Must(t, err)
	var n int
	if pgtest.Must(t, s.DB.Get(&n, `select count(*) from column_version`)); n != 1 {
		t.Errorf("%d versions of columns", n)
	}
}

func TestTheAuditTrailBeginsLaterAndStillProvesItself(t *testing.T) {
	s, err := store.Open(t.Context(), pgtest.Empty(t))
	pgtest.Must(t, err)
	t.Cleanup(s.Close)
	now := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	for days := 100; days > 0; days -= 10 {
		pgtest.Must(t, s.AddAudit(t.Context(), record.Audit{At: now.AddDate(0, 0, -days), Who: "Ines", What: "put monitor",
			About: fmt.Sprint(days)}))
	}
	prove := func(entries int64, broken bool) {
		t.Helper()
		p, err := s.VerifyAudit(t.Context())
		pgtest.Must(t, err)
		if p.Entries != entries || (p.Broken != 0) != broken {
			t.Errorf("%+v, want %d entries", p, entries)
		}
	}
	prove(10, false)
	for _, days := range []int{55, 35} { // again, a month later
		_, err := s.ForgetAudit(t.Context(), days, now)
		pgtest.Must(t, err)
	}
	prove(5, false) // 30, 20, 10 days ago, and two that say so
	pgtest.Must(t, s.AddAudit(t.Context(), record.Audit{At: now, Who: "Ines", What: "put monitor", About: "since"}))
	prove(6, false)
	if _, err := s.DB.Exec(`delete from audit where id = (select min(id) from audit)`); err == nil {
		t.Error("an entry can be removed")
	}
	// Who goes around the trigger, and moves the beginning, is found out.
	_, err = s.DB.Exec(`alter table audit disable trigger audit_stays; update audit_begins set upto = (select min(id) from audit), seal = (select seal from audit order by id limit 1); delete from audit where id = (select min(id) from audit)`)
	pgtest.Must(t, err)
	prove(5, true)
}
