package comparison_test

import (
	"encoding/csv"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strconv"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/parquet-go/parquet-go"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/compare"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

// now is noon on a Thursday.
var now = time.Date(2026, 6, 18, 12, 0, 0, 0, time.UTC)

// trip is a made-up scored booking.
type trip struct {
	At      time.Time  `parquet:"scored_at,timestamp(microsecond)"`
	Booking int64      `parquet:"booking"`
	Fare    *float64   `parquet:"fare,optional"`
	Party   int32      `parquet:"party"`
	Channel *string    `parquet:"channel,optional"`
	Vehicle bool       `parquet:"vehicle"`
	Sails   *time.Time `parquet:"sails_at,optional,timestamp(microsecond)"`
	Score   float64    `parquet:"score"`
	Answer  string     `parquet:"answer"`
	Version string     `parquet:"version"`
	Missed  *bool      `parquet:"missed,optional"`
}

// trips draws some a day; change may alter each.
func trips(rng *rand.Rand, from time.Time, days, each int, change func(day int, v *trip)) []trip {
	var list []trip
	channels := []string{"web", "kiosk", "agent", "telephone"}
	for day := range days {
		for i := range each {
			at := from.AddDate(0, 0, day).Add(time.Duration(float64(i) / float64(each) * float64(24*time.Hour))).Truncate(time.Second)
			v := trip{At: at, Booking: int64(day*each + i), Party: int32(1 + rng.IntN(4)), Vehicle: rng.Float64() < 0.3, Version: "v1"}
			if fare := math.Exp(3 + 0.5*rng.NormFloat64()); rng.Float64() > 0.02 {
				v.Fare = &fare
			}
			if c := channels[min(3, int(4*math.Pow(rng.Float64(), 2)))]; rng.Float64() > 0.01 {
				v.Channel = &c
			}
			if sails := at.Add(time.Duration(rng.ExpFloat64() * 50 * float64(time.Hour))).Truncate(time.Second); rng.Float64() > 0.05 {
				v.Sails = &sails
			}
			x := rng.NormFloat64()
			v.Score = 1 / (1 + math.Exp(1.5-x))
			v.Answer = map[bool]string{true: "no-show", false: "shows up"}[v.Score > 0.3]
			if missed := rng.Float64() < v.Score; rng.Float64() > 0.2 {
				v.Missed = &missed
			}
			if change != nil {
				change(day, &v)
			}
			list = append(list, v)
		}
	}
	return list
}

func text[T any](v *T, format func(T) string) string {
	if v == nil {
		return ""
	}
	return format(*v)
}

func (v trip) fields() []string {
	return []string{v.At.UTC().Format(time.RFC3339Nano), fmt.Sprint(v.Booking),
		text(v.Fare, func(x float64) string { return strconv.FormatFloat(x, 'g', -1, 64) }), fmt.Sprint(v.Party),
		text(v.Channel, func(s string) string { return s }), fmt.Sprint(v.Vehicle),
		text(v.Sails, func(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }),
		strconv.FormatFloat(v.Score, 'g', -1, 64), v.Answer, v.Version, text(v.Missed, func(b bool) string { return fmt.Sprint(b) })}
}

var head = []string{"scored_at", "booking", "fare", "party", "channel", "vehicle", "sails_at", "score", "answer", "version", "missed"}

func writeCSV(t testing.TB, path string, list []trip) {
	t.Helper()
	f, err := os.Create(path)
	dbtest.Must(t, err)
	w := csv.NewWriter(f)
	w.Write(head)
	for _, v := range list {
		w.Write(v.fields())
	}
	w.Flush()
	dbtest.Must(t, w.Error())
	dbtest.Must(t, f.Close())
}

const tripTable = `create table trips (scored_at timestamptz, booking bigint, fare double precision, party int, channel text, vehicle boolean, sails_at timestamptz, score double precision, answer text, version text, missed boolean)`

func insert(t testing.TB, conn *pgx.Conn, list []trip) {
	t.Helper()
	rows := make([][]any, len(list))
	for i, v := range list {
		rows[i] = []any{v.At, v.Booking, v.Fare, v.Party, v.Channel, v.Vehicle, v.Sails, v.Score, v.Answer, v.Version, v.Missed}
	}
	_, err := conn.CopyFrom(t.Context(), pgx.Identifier{"trips"}, head, pgx.CopyFromRows(rows))
	dbtest.Must(t, err)
}

// house is a warehouse with the table of trips, as a dataset.
func house(t testing.TB, s *dbtest.Service, list []trip) *pgx.Conn {
	t.Helper()
	address := s.NewDatabase(t)
	conn, err := pgx.Connect(t.Context(), address)
	dbtest.Must(t, err)
	t.Cleanup(func() { conn.Close(t.Context()) })
	_, err = conn.Exec(t.Context(), tripTable)
	dbtest.Must(t, err)
	insert(t, conn, list)
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "house", Address: address}, nil))
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/datasets", httpapi.NewDataset{Source: "house", Name: "public.trips",
		Zone: "America/Halifax", Owner: "Models"}, nil))
	return conn
}

func TestRowsAreCountedTheSameWhereverTheyLie(t *testing.T) {
	t.Parallel()
	s := dbtest.Start(t, now)
	// Over the end of summer time in Halifax, when a day has 25 hours.
	list := trips(rand.New(rand.NewPCG(1, 2)), time.Date(2026, 10, 29, 3, 0, 0, 0, time.UTC), 7, 400, func(day int, v *trip) {
		if v.Booking%3 == 0 {
			v.Version = "v2"
		}
		v.Booking /= 2 // half of the cases are scored by both
	})
	house(t, s, list)
	dir := t.TempDir()
	text, binary := filepath.Join(dir, "trips.csv"), filepath.Join(dir, "trips.parquet")
	writeCSV(t, text, list)
	dbtest.Must(t, parquet.WriteFile(binary, list, parquet.MaxRowsPerRowGroup(900)))

	zone, err := time.LoadLocation("America/Halifax")
	dbtest.Must(t, err)
	source, err := s.Parts.Store.Source(t.Context(), "house")
	dbtest.Must(t, err)
	inputs := map[string]compare.Input{
		"csv":     &compare.Files{List: []compare.File{{Path: text}}},
		"parquet": &compare.Files{List: []compare.File{{Path: binary}}},
		"table":   &compare.Warehouse{Pools: s.Parts.Warehouses, Source: source, Table: "public.trips", Zone: "America/Halifax"},
		"the query": &compare.Warehouse{Pools: s.Parts.Warehouses, Source: source, Query: "select * from trips -- all;",
			Zone: "America/Halifax"},
	}
	for _, score := range []string{"score", "answer"} {
		t.Run(score, func(t *testing.T) {
			settings := record.ComparisonSettings{TimeColumn: "scored_at", Score: score, Version: "version", Outcome: "missed",
				Key: "booking", LeaveOut: record.Strings{"booking"}, Seed: 3}
			span := timeline.Span{From: time.Date(2026, 10, 30, 0, 0, 0, 0, zone).Unix(),
				To: time.Date(2026, 11, 4, 0, 0, 0, 0, zone).Unix()}
			var wanted compare.Wanted
			var layouts []*drift.Layout
			var days []compare.Day
			var pairs drift.Paired
			for _, name := range []string{"csv", "parquet", "table", "the query"} {
				in := inputs[name]
				columns, err := in.Columns(t.Context())
				dbtest.Must(t, err)
				features, err := compare.Propose(columns, settings)
				dbtest.Must(t, err)
				w := compare.Wants(settings, features, zone)
				own, err := in.Layouts(t.Context(), w, span)
				dbtest.Must(t, err)
				if layouts == nil {
					wanted, layouts = w, own
				} else if !reflect.DeepEqual(w.Features, wanted.Features) {
					t.Fatalf("%s: features %+v, in the first %+v", name, w.Features, wanted.Features)
				}
				for i := range own { // in whole, quantiles of the same rows
					if own[i].Bins() < layouts[i].Bins()*9/10 || own[i].Discrete != layouts[i].Discrete ||
						!reflect.DeepEqual(own[i].Words, layouts[i].Words) {
						t.Errorf("%s: %s has %d bins, in the first %d", name, w.Features[i].Name, own[i].Bins(), layouts[i].Bins())
					}
				}
				counted, err := in.Days(t.Context(), w, layouts, span)
				dbtest.Must(t, err)
				if days == nil {
					if days = counted; len(days) != 5 || days[3].At-days[2].At != 25*3600 {
						t.Fatalf("%d days; the longest night should be among them", len(days))
					}
					continueWith(t, days)
				}
				sameDays(t, name, days, counted)
				if score == "score" {
					p, err := in.Paired(t.Context(), w, "v1", "v2", span)
					dbtest.Must(t, err)
					if pairs.Rows == 0 {
						pairs = p
					}
					if p.Rows < 300 || p.Rows != pairs.Rows || p.Apart != pairs.Apart || math.Abs(p.Product-pairs.Product) > 1e-6 {
						t.Errorf("%s: cases of both versions are %+v, in the first %+v", name, p, pairs)
					}
				}
				drawn, err := in.Samples(t.Context(), w, layouts, []timeline.Span{span, {From: span.To, To: span.To + 3600}},
					[]int{500, 500})
				dbtest.Must(t, err)
				again, err := in.Samples(t.Context(), w, layouts, []timeline.Span{span}, []int{500})
				dbtest.Must(t, err)
				if drawn[0].Rows() != 500 || drawn[1].Rows() > 20 || !reflect.DeepEqual(bits(drawn[0]), bits(again[0])) {
					t.Errorf("%s: samples of %d and %d rows; drawn again they should be the same", name, drawn[0].Rows(), drawn[1].Rows())
				}
			}
		})
	}
}

// continueWith makes sure that the days hold what the test is about.
func continueWith(t *testing.T, days []compare.Day) {
	t.Helper()
	for i := range days[0].Counts {
		if days[0].Counts[i].Rows == 0 {
			t.Fatalf("feature %d has no rows", i)
		}
	}
	m := days[0].Models["v2"]
	if m == nil || m.Rows == 0 || m.MissingInput == 0 || m.Scores.Rows != m.Rows {
		t.Fatalf("the model's second version counted %+v", m)
	}
}

func sameDays(t *testing.T, name string, want, got []compare.Day) {
	t.Helper()
	if len(got) != len(want) {
		t.Fatalf("%s: %d days of %d", name, len(got), len(want))
	}
	for d := range want {
		if got[d].At != want[d].At || len(got[d].Models) != len(want[d].Models) {
			t.Fatalf("%s: day %d is %d with %d versions", name, d, got[d].At, len(got[d].Models))
		}
		for i := range want[d].Counts {
			sameCounts(t, fmt.Sprintf("%s, day %d, feature %d", name, d, i), want[d].Counts[i], got[d].Counts[i])
		}
		for version, m := range want[d].Models {
			o := got[d].Models[version]
			if o == nil || o.Rows != m.Rows || o.MissingInput != m.MissingInput || o.Above != m.Above {
				t.Fatalf("%s, day %d, %s: %+v, wanted %+v", name, d, version, o, m)
			}
			sameCounts(t, fmt.Sprintf("%s, day %d, scores of %s", name, d, version), m.Scores, o.Scores)
			for b := range m.Outcomes {
				x, y := m.Outcomes[b], o.Outcomes[b]
				if x.Rows != y.Rows || x.Positive != y.Positive || math.Abs(x.Score-y.Score) > 1e-9 ||
					math.Abs(x.Hit-y.Hit) > 1e-9 || math.Abs(x.Squares-y.Squares) > 1e-9 {
					t.Fatalf("%s, day %d, %s: outcomes %+v, wanted %+v", name, d, version, y, x)
				}
			}
		}
	}
}

func sameCounts(t *testing.T, what string, want, got drift.Counts) {
	t.Helper()
	if want.Rows != got.Rows || want.Missing != got.Missing || want.Unreadable != got.Unreadable || !reflect.DeepEqual(want.Bins,
		got.Bins) || want.Fresh != got.Fresh {
		t.Fatalf("%s: %d rows, %d missing, %d unreadable, %d new, %v; wanted %d, %d, %d, %d, %v", what, got.Rows, got.Missing,
			got.Unreadable, got.Fresh, got.Bins, want.Rows, want.Missing, want.Unreadable, want.Fresh, want.Bins)
	}
	for _, pair := range [][2]float64{{want.Sum, got.Sum}, {want.Squares, got.Squares}, {want.Min, got.Min}, {want.Max, got.Max},
		{want.Below, got.Below}, {want.Above, got.Above}} {
		if math.Abs(pair[0]-pair[1]) > 1e-6*(1+math.Abs(pair[0])) {
			t.Fatalf("%s: %+v, wanted %+v", what, got, want)
		}
	}
}

// bits are a sample's values, with missing ones that compare equal.
func bits(d compare.Drawn) [][]uint64 {
	var all [][]uint64
	for _, f := range d.Features {
		var list []uint64
		for _, x := range f.Numbers {
			list = append(list, math.Float64bits(x))
		}
		for _, c := range f.Codes {
			list = append(list, uint64(c))
		}
		all = append(all, list)
	}
	return all
}
