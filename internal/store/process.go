package store

import (
	"context"
	"time"
)

// Enroll makes this process known as one that works on the database, under a
// number, for as long as it holds the lock and beats.
func (s *Store) Enroll(ctx context.Context) (number int32, alive *Lock, err error) {
	number, err = one[int32](ctx, s, "process", "", `insert into process default values returning id`)
	if err != nil {
		return 0, nil, err
	}
	alive, _, err = s.lock(ctx, lockProcess, number)
	return number, alive, err
}

// Claim takes the lock of a process again whose connection was lost.
func (s *Store) Claim(ctx context.Context, number int32) (alive *Lock, held bool, err error) {
	return s.lock(ctx, lockProcess, number)
}

// Beat says that a process lives, and forgets those that have not for a day.
func (s *Store) Beat(ctx context.Context, number int32) error {
	return s.exec(ctx, "process", `
		with old as (delete from process where beat_at < now() - interval '1 day' and id <> $1)
		insert into process (id, beat_at) overriding system value values ($1, now()) on conflict (id) do update set beat_at = now()`, number)
}

// Living gives the processes that live: that hold their lock, and have said so
// within a time, as one on a machine that is cut off has not.
func (s *Store) Living(ctx context.Context, within time.Duration) ([]int32, error) {
	return many[int32](ctx, s, "processes", `
		select id from process where beat_at > now() - $1::float8 * interval '1 second'
			and exists (select from pg_locks where locktype = 'advisory' and classid = $2 and objid = process.id and granted
				and database = (select oid from pg_database where datname = current_database()))`, within.Seconds(), lockProcess)
}
