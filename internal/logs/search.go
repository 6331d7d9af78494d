package logs

import (
	"bufio"
	"context"
	"errors"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tinbell/core/template"
	"tinbell/internal/collect/landing"
	"tinbell/internal/record"
)

// searcher finds the lines of a sentence. It has templates of its own, which what it reads
// changes for nobody else.
type searcher struct {
	miner  *template.Miner
	masker *template.Masker
	number int
	now    time.Time
	zone   *time.Location
}

func (k *Keeper) searcher(ctx context.Context, log record.Log, one record.LogTemplate) (*searcher, error) {
	masker, err := template.NewMasker(log.Masked)
	if err != nil {
		return nil, err
	}
	rows, err := k.store.LogTemplates(ctx, log.ID)
	if err != nil {
		return nil, err
	}
	s := &searcher{miner: template.Restore(mostTemplates, log.Next, saved(rows)), masker: masker, number: one.Number, now: k.now()}
	s.miner.Masker = masker
	if s.zone, err = time.LoadLocation(log.Zone); err != nil {
		s.zone = time.UTC
	}
	return s, nil
}

// saved are the templates as a miner takes them up again.
func saved(rows []record.LogTemplate) (kept []template.Saved) {
	for _, t := range rows {
		if t.Kept {
			kept = append(kept, template.Saved{ID: t.Number, Places: t.Places, Lines: t.Lines, Into: t.MergedInto, Shape: uint64(t.Shape)})
		}
	}
	return kept
}

// search gives the last lines of the sentence in a file, newest first, and how many bytes
// were read.
func (s *searcher) search(f landing.File, from, to time.Time, most int, bytes int64, until time.Time) (list []FromFile,
	read int64, err error) {
	in, file, err := open(f)
	if err != nil {
		return nil, 0, err
	}
	defer file.Close()
	counted := &counter{in: io.LimitReader(in, bytes)}
	ext := filepath.Ext(strings.TrimSuffix(f.Path, ".gz"))
	r := &reader{in: bufio.NewReaderSize(counted, longestLine), json: ext == ".ndjson" || ext == ".jsonl" || ext == ".json",
		now: s.now, zone: s.zone, refuse: func(int64, error) {}}
	for {
		e, err := r.next()
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || r.line%4096 == 0 && time.Now().After(until) {
			break
		}
		if err != nil {
			return nil, counted.n, err
		}
		text := clean(e.text)
		if s.miner.Take(text).Number() != s.number || e.at.Before(from) || !e.at.Before(to) {
			continue
		}
		if list = append(list, FromFile{f.Path, e.number, e.at, cut(string(s.masker.Mask(text)), 4000)}); len(list) > 2*most {
			list = append(list[:0], list[len(list)-most:]...)
		}
	}
	slices.Reverse(list)
	return list[:min(len(list), most)], counted.n, nil
}

type counter struct {
	in io.Reader
	n  int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.n += int64(n)
	return n, err
}
