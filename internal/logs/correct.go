package logs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/template"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Correction is what a person changes of how lines become sentences.
type Correction struct {
	What   string `json:"what" enum:"join,hold,vary" doc:"join: two sentences are one. hold: a word is constant. vary: a part is variable"`
	With   int    `json:"with,omitempty" minimum:"0" doc:"join: the other sentence"`
	Part   *int   `json:"part,omitempty" minimum:"0" doc:"hold and vary: which part, from 0; left out: the one that is the word"`
	Word   string `json:"word,omitempty" maxLength:"120" doc:"hold: the word, where the part varies now"`
	Author string `json:"-"`
}

// Corrected says what came of a correction.
type Corrected struct {
	Number   int    `json:"number" doc:"the sentence that it is now; of a word that is held where others vary the new one"`
	Sentence string `json:"sentence"`
}

// Correct carries out a correction: lines that come from now on are sorted by it, also
// after a restart and by other processes.
func (k *Keeper) Correct(ctx context.Context, name string, number int, c Correction) (done Corrected, err error) {
	err = k.store.InTx(ctx, func(tx pgx.Tx) error {
		s := k.store.In(tx)
		log, err := s.HoldLog(ctx, name)
		if err != nil {
			return err
		}
		h, err := k.take(ctx, s, log)
		if err != nil {
			return err
		}
		row := h.rows[number]
		if row == nil {
			return record.NotFound{Kind: "template of log " + name, Name: fmt.Sprint(number)}
		}
		if h.miner.Masker, err = template.NewMasker(log.Masked); err != nil {
			return err
		}
		change := record.LogChange{Number: number, Place: -1, Word: c.Word, Author: c.Author}
		touched := []int{number}
		switch c.What {
		case "join":
			done.Number, err = h.miner.Join(number, c.With)
			touched = append(touched, c.With)
			done.Sentence = fmt.Sprintf("Sentences %d and %d are %d from now on.", number, c.With, done.Number)
		case "hold", "vary":
			place, err := placeOf(row.Places, c)
			if err != nil {
				return err
			}
			change.Place = place
			if c.What == "vary" {
				change.What, done.Number = "varied", number
				if err := h.miner.Varying(number, place); err != nil {
					return corrected(err)
				}
				done.Sentence = fmt.Sprintf("Part %d of sentence %d varies from now on.", place, number)
				break
			}
			change.What = "held"
			if done.Number, err = h.miner.Hold(number, place, c.Word); err != nil {
				return corrected(err)
			}
			change.Other = done.Number
			if done.Sentence = fmt.Sprintf("Part %d of sentence %d is constant.", place, number); done.Number != number {
				done.Sentence = fmt.Sprintf("Lines with %q there are sentence %d from now on.", c.Word, done.Number)
			}
			touched = append(touched, done.Number)
		default:
			return record.Invalid{Field: "what", Given: c.What, Allowed: "join, hold and vary"}
		}
		if err != nil {
			return corrected(err)
		}
		if change.What != "" { // what is joined is said where it is written
			if err := store.AddLogChanges(ctx, tx, log.ID, []record.LogChange{change}); err != nil {
				return err
			}
		}
		now := k.now()
		spans := map[*template.Template][2]time.Time{}
		for _, t := range h.miner.Everything() {
			for _, n := range touched {
				if t.ID != n && t.Number() != n {
					continue
				}
				span := [2]time.Time{now, now}
				if known := h.rows[t.ID]; known != nil {
					span = [2]time.Time{known.FirstAt, known.LastAt}
				} else {
					h.rows[t.ID] = &record.LogTemplate{LogID: log.ID, Number: t.ID, FirstAt: row.FirstAt, LastAt: now,
						Severity: row.Severity} // no news
				}
				spans[t] = span
			}
		}
		if err := k.write(ctx, tx, &log, h, change.Author, nil, spans, nil); err != nil {
			return err
		}
		log.Next = h.miner.Next()
		if err := store.SetLogNext(ctx, tx, log.ID, log.Next); err != nil {
			return err
		}
		h.version = log.Version + 1
		k.give(log.ID, h)
		return nil
	})
	if err != nil {
		if log, wrong := k.store.Log(ctx, name); wrong == nil {
			k.forget(log.ID)
		}
	}
	return done, err
}

// placeOf is the part that a correction means.
func placeOf(places record.LogPlaces, c Correction) (int, error) {
	if c.Part != nil {
		return *c.Part, nil
	}
	found := -1
	for i, p := range places {
		if p.Kind == template.Word && p.Text == c.Word {
			if found >= 0 {
				return 0, record.Invalid{Field: "word", Given: c.Word,
					Allowed: "a word that stands once in the sentence; else say which part"}
			}
			found = i
		}
	}
	if found < 0 {
		return 0, record.Invalid{Field: "word", Given: c.Word, Allowed: "a word of the sentence, or with part the place where it stands"}
	}
	return found, nil
}

// corrected gives the errors of corrections as they are answered.
func corrected(err error) error {
	if errors.Is(err, template.ErrNoTemplate) || errors.Is(err, template.ErrNoPart) {
		return record.Refused{Field: "correction", Why: err.Error()}
	}
	return err
}
