package logs

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"tinbell/core/template"
	"tinbell/internal/record"
)

// Over a quarter, logs in which something new is said every d days on average (a Poisson
// process, sentences of words that share nothing) tell of it no more than one and a half
// times as often as is asked for; where it is rare, nearly all of it is told.
func TestNewsIsToldNoOftenerThanIsAskedFor(t *testing.T) {
	const asked, days = 14.0, 90
	start := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for _, every := range []float64{2, 5, 10, 20, 60} {
		rng := rand.New(rand.NewPCG(uint64(10*every), 19))
		told, came := 0, 0
		const logs = 40
		for range logs {
			log := record.Log{FirstAt: &start, Kinds: record.LogKinds, Watched: record.Strings{"ERROR"},
				RareSeconds: int64(asked * 86400), Normal: 7 * 86400}
			var rows []record.LogTemplate
			for at := start; ; {
				at = at.Add(time.Duration(rng.ExpFloat64() * every * 24 * float64(time.Hour)))
				if at.After(start.AddDate(0, 0, days)) {
					break
				}
				var places record.LogPlaces
				for range 6 {
					places = append(places, template.Place{Kind: template.Word, Text: fmt.Sprint("w", rng.Uint32())})
				}
				rows = append(rows, record.LogTemplate{Number: len(rows) + 1, Severity: "ERROR", Places: places, FirstAt: at, LastAt: at})
			}
			for i, row := range rows {
				if row.FirstAt.After(start.AddDate(0, 0, asked)) { // half of what is told is for news
					came++
				}
				for _, f := range news(log, rows[:i+1], row.FirstAt.Add(time.Minute)) {
					if f.Number == row.Number {
						told++
					}
				}
			}
		}
		stated := logs * days / asked
		ratio := float64(told) / stated
		t.Logf("new every %g d: %d of %d told, %.2f times what is asked for", every, told, came, ratio)
		if ratio > 1.5 {
			t.Errorf("new every %g d: told %.2f times as often as is asked for", every, ratio)
		}
		if every >= 60 && float64(told) < 0.8*float64(came) {
			t.Errorf("new every %g d, of %d only %d are told", every, came, told)
		}
	}
}
