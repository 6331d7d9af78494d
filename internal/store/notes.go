package store

import (
	"context"
	"fmt"
	"time"

	"tinbell/internal/record"
)

// AddNote keeps a note and gives it as it is kept.
func (s *Store) AddNote(ctx context.Context, v record.Note) (record.Note, error) {
	id, err := one[int64](ctx, s, "note", "", `
		insert into note (dataset_id, at, text, link, author)
		values ((select id from dataset where name = nullif($1, '')), $2, $3, $4, $5) returning id`,
		v.Dataset, v.At, v.Text, v.Link, v.Author)
	if err != nil {
		return v, err
	}
	return one[record.Note](ctx, s, "note", fmt.Sprint(id), noteSelect+`where n.id = $1`, id)
}

const noteSelect = `select n.id, coalesce(d.name, '') as dataset, n.at, n.text, n.link, n.author, n.created_at from note n
	left join dataset d on d.id = n.dataset_id `

// Notes gives the notes on a dataset in [from, to), those on all datasets among them,
// newest first; without a dataset all. Zero times do not narrow.
func (s *Store) Notes(ctx context.Context, dataset string, from, to time.Time) ([]record.Note, error) {
	return many[record.Note](ctx, s, "notes", noteSelect+`
		where ($1 = '' or n.dataset_id is null or d.name = $1) and ($2::timestamptz is null or n.at >= $2) and ($3::timestamptz is null or n.at < $3)
		order by n.at desc, n.id desc limit 1000`, dataset, nullTime(from), nullTime(to))
}

// RemoveNote removes a note.
func (s *Store) RemoveNote(ctx context.Context, id int64) error {
	n, err := s.affect(ctx, "note", `delete from note where id = $1`, id)
	if err == nil && n == 0 {
		return record.NotFound{Kind: "note", Name: fmt.Sprint(id)}
	}
	return err
}
