package inspect

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

func TestTheLastDayIsComparedWithThePastsOwnDays(t *testing.T) {
	var readings []detect.Reading
	for day := range 29 {
		for range 24 {
			v := 100 + 5*float64(day%3-1)
			if day == 28 {
				v = 60
			}
			readings = append(readings, detect.Reading{Observed: v, Expected: 100})
		}
	}
	var low total
	low.sumUp(readings, 24)
	if low.day != 1440 || low.expected != 2400 || low.deviation > -2 {
		t.Errorf("forty percent lost: %+v", low)
	}
	var calm total
	calm.sumUp(readings[:28*24], 24)
	if math.Abs(calm.deviation) > 1 || calm.week < 16000 {
		t.Errorf("an ordinary day deviates by %.2f, week %.0f", calm.deviation, calm.week)
	}
	var young total
	young.sumUp(readings[:48], 24)
	if !math.IsNaN(young.deviation) {
		t.Errorf("two days of history say nothing of the third: %.2f", young.deviation)
	}
}

func TestSegmentsAddUpPeriodByPeriod(t *testing.T) {
	nan := math.NaN()
	for count, want := range map[bool]float64{true: 7, false: 3.5} {
		total := newSum(timeline.Grid{Period: time.Hour, Zone: time.UTC}, time.Unix(0, 0), time.Unix(5*3600, 0))
		total.add([]timeline.Sample{{At: 3600, Value: 1}, {At: 7200, Value: nan}, {At: 10800, Value: 2}})
		total.add([]timeline.Sample{{At: 10800, Value: 5}, {At: 99 * 3600, Value: 5}})
		got := total.samples(count)
		if len(got) != 4 || got[0].At != 3600 || got[0].Value != 1 || !got[1].Missing() || got[2].Value != want || !got[3].Missing() {
			t.Errorf("counted %t: %+v", count, got)
		}
	}
}

func TestTheWorstOpenAlertNamesADatasetsState(t *testing.T) {
	state := ""
	for _, c := range []struct {
		a    record.Alert
		want string
	}{
		{record.Alert{Severity: "warning"}, "warning"},
		{record.Alert{Cause: "overdue", Severity: "warning"}, "overdue"},
		{record.Alert{Severity: "warning"}, "overdue"},
		{record.Alert{Severity: "critical"}, "critical"},
		{record.Alert{Cause: "overdue", Severity: "critical"}, "critical"},
	} {
		if state = worst(state, c.a); state != c.want {
			t.Errorf("after %+v: %s, want %s", c.a, state, c.want)
		}
	}
}

// What is summed up quickly is summed up again at each push; what takes long takes a hundredth
// of a core at most, and is never older than a quarter of an hour for it.
func TestALargeSummaryRests(t *testing.T) {
	for took, want := range map[time.Duration]time.Duration{
		10 * time.Millisecond: 0, 250 * time.Millisecond: 0, 600 * time.Millisecond: time.Minute,
		4 * time.Second: 400 * time.Second, time.Minute: 15 * time.Minute,
	} {
		if got := restAfter(took); got != want {
			t.Errorf("after %s it rests %s, want %s", took, got, want)
		}
	}
}

// The small chart of a dataset without samples is an empty one, also where it was kept
// before lists were never null.
func TestASmallChartOfNothingIsEmpty(t *testing.T) {
	var h Health
	for _, kept := range []string{`{"spark":{"period_seconds":60,"observed":null,"expected":null}}`, `{"spark":{"observed":[],"expected":[]}}`} {
		if err := h.restore([]byte(kept)); err != nil {
			t.Fatal(err)
		}
		if text, err := json.Marshal(h.Spark); err != nil || strings.Contains(string(text), "null") {
			t.Errorf("%s becomes %s (%v)", kept, text, err)
		}
	}
	if text, err := json.Marshal(Spark{}); err != nil || strings.Contains(string(text), "null") {
		t.Errorf("nothing is %s (%v)", text, err)
	}
}
