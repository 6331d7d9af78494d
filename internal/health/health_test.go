package health

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"tinbell/internal/record"
)

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
		if state = c.a.Worst(state); state != c.want {
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
