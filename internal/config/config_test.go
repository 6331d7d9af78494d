package config

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"tinbell/internal/record"
)

const file = `kind: source
name: house
address: postgres://reader@db:5432/house
password: ${HOUSE_PASSWORD}
---
kind: calendar
name: harbour
ical: |
  BEGIN:VCALENDAR
  END:VCALENDAR
---
kind: dataset
name: ops.scans
source: house
zone: America/Halifax
---
kind: metric
name: scans-rows
dataset: ops.scans
measure: rows
time_column: at
segment_by: [port, gate]
period: 1h
every: 5m
lookback: 90m
---
kind: monitor
name: scans-volume
metric: scans-rows
direction: both
warn: 1y
critical: 10y
min_effect: 2.5
adopt_after: never
quiet: ["mon-fri 22:00-06:00"]
---
kind: calendar
name: days off
country: CA
zone: America/Halifax
---
kind: channel
name: desk
through: email
to: [desk@ferries.example]
from: bell@ferries.example
host: smtp.ferries.example
user: bell
password: ${DESK_PASSWORD}
hourly_limit: 12
---
kind: route
name: nights
channel: desk
datasets: ["ops.*"]
hours: ["mon-fri 18:00-08:00"]
zone: America/Halifax
remind: 4h
---
kind: sla
name: parcels
dataset: ops.scans
counts: rows
at_least: 500
days: mon-fri
by: "06:30"
lead: 2h
`

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	d, wrong := Parse("a.yaml", []byte(file))
	if len(wrong) > 0 {
		t.Fatal(wrong)
	}
	if m := d.Metrics[0]; m.PeriodSeconds != 3600 || m.LookbackSeconds != 5400 || strings.Join(m.SegmentBy, ",") != "port,gate" {
		t.Errorf("metric %+v", m)
	}
	if m := d.Monitors[0]; m.WarnSeconds != 365*86400 || m.MinEffect != 2.5 || m.Method != "seasonal" || m.Coverage != 0.99 ||
		m.AdoptAfterSeconds != -1 {
		t.Errorf("monitor %+v", m)
	}
	low := 4.0
	d.Monitors[0].Low = &low
	again, wrong := Parse("b.yaml", Write(d))
	if len(wrong) > 0 || len(Compare(d, again)) > 0 || *again.Monitors[0].Low != 4 {
		t.Errorf("%v\n%v\n%s", wrong, Compare(d, again), Write(d))
	}
	if got := fmt.Sprint(Compare(Documents{}, d)[0].What, len(Compare(d, Documents{}))); got != "added9" {
		t.Errorf("compared with nothing: %s", got)
	}
	d.Metrics[0].EverySeconds = 60
	changes := Compare(again, d)
	if len(changes) != 1 || changes[0].Fields[0] != (FieldChange{"every", "5m", "1m"}) {
		t.Errorf("changes %+v", changes)
	}
}

func TestPasswordsStandInNoFile(t *testing.T) {
	d, _ := Parse("a.yaml", []byte(file))
	d.Fill(func(name string) (string, bool) { return "of " + name, true })
	if d.Sources[0].Password != "of HOUSE_PASSWORD" {
		t.Errorf("filled in: %+v", d.Sources[0])
	}
	kept := record.Source{Name: "sea-house 2", Kind: "postgresql", Address: "postgres://reader:xxxxx@db:5432/house?sslmode=require"}
	if got := writtenSource(kept); got != (WrittenSource{"sea-house 2", "postgres://reader@db:5432/house?sslmode=require",
		"${SEA_HOUSE_2_PASSWORD}"}) {
		t.Errorf("%+v", got)
	}
	kept.Address = "postgres://reader@db/house"
	if got := writtenSource(kept); got.Password != "" {
		t.Errorf("a login without a password: %+v", got)
	}
	other, _ := Parse("b.yaml", []byte(file))
	if changes := Compare(d, other); len(changes) != 0 {
		t.Errorf("passwords are compared: %+v", changes)
	}
}

func TestWhatIsWrongIsToldWithLineAndColumn(t *testing.T) {
	for change, want := range map[[2]string]string{
		{"measure: rows", "mesure: rows"}:                `a.yaml:20:1: a metric has no "mesure"; it has name, dataset, measure`,
		{"period: 1h", "period: often"}:                  `a.yaml:23:9: period: "often" is no duration`,
		{"direction: both", "direction: up"}:             `a.yaml:30:12: direction: "up" is not among low, high, both`,
		{"min_effect: 2.5", "min_effect: lots"}:          `a.yaml:33:13: min_effect: "lots" is not a number`,
		{"segment_by: [port, gate]", "segment_by: port"}: `a.yaml:22:13: segment_by: "port" is not a list`,
		{"kind: monitor", "kind: watcher"}:               `a.yaml:27:7: kind "watcher" is not known; there are source, dataset, metric, monitor, calendar`,
		{"kind: monitor\n", ""}:                          `it has no kind`,
		{"source: house\n", ""}:                          `a.yaml:12:1: this dataset lacks source`,
		{"every: 5m", "every: 5m\nevery: 6m"}:            `a.yaml:25:1: every is said twice`,
		{"zone: America", "zone: [America"}:              `this is no YAML`,
	} {
		_, wrong := Parse("a.yaml", []byte(strings.Replace(file, change[0], change[1], 1)))
		if len(wrong) == 0 || !strings.Contains(wrong[0].Error(), want) {
			t.Errorf("%q: %v, want %s", change[1], wrong, want)
		}
	}
	if d, wrong := Parse("a.yaml", []byte("# nothing\n---\n\n---\n")); len(wrong) > 0 || len(d.Datasets) > 0 {
		t.Errorf("empty documents: %v", wrong)
	}
}

func TestDurationsAreWrittenAsPeopleSayThem(t *testing.T) {
	for seconds, want := range map[int64]string{90: "90s", 900: "15m", 5400: "90m", 3600: "1h", 86400: "24h", 30 * 86400: "30d",
		14 * 86400: "14d", 8 * 7 * 86400: "8w", 10 * 365 * 86400: "10y", -1: "never"} {
		got := duration(seconds)
		if back, err := parseDuration(got); got != want || err != nil || back != seconds {
			t.Errorf("%d is %s, read back as %d (%v), want %s", seconds, got, back, err, want)
		}
	}
	for _, bad := range []string{"", "5", "h", "1h30m", "-3s", "1x", "1e300y", "0.3s"} {
		if n, err := parseDuration(bad); err == nil {
			t.Errorf("%q was read as %d", bad, n)
		}
	}
}

func TestTheSchemaKnowsEveryKey(t *testing.T) {
	encoded, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"const":"monitor"`, `"warn":{"description":"return period: by chance the monitor`,
		`"required":["segment"]`, `"enum":["low","high","both"]`, `"required":["dataset","kind","measure","name","period"]`} {
		if !strings.Contains(string(encoded), want) {
			t.Errorf("%s is missing", want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(file))
	f.Add([]byte("kind: metric\nname: &a [*a]\n"))
	f.Fuzz(func(t *testing.T, content []byte) {
		d, wrong := Parse("a.yaml", content)
		for _, m := range d.Monitors {
			if m.Method == "" && len(wrong) == 0 && record.DefaultSettings().Method == "" {
				t.Error("a monitor without a method")
			}
		}
	})
}
