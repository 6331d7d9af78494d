package lineage

import (
	"strings"
	"testing"
)

const event = `{"eventType":"COMPLETE","eventTime":"2026-06-18T09:00:00.5-03:00","producer":"https://vellamar.example/feeder","schemaURL":"https://openlineage.io/spec/2-0-2/OpenLineage.json",
	"run":{"runId":"0190a1b2-0000-7000-8000-000000000001","facets":{"parent":{"run":{"runId":"0190a1b2-0000-7000-8000-0000000000ff"},"job":{}},"unknown":{"x":1}}},
	"job":{"namespace":"vellamar","name":"load scans"},
	"inputs":[{"namespace":"vellamar","name":"raw.gate_events","inputFacets":{"dataQualityMetrics":{"rowCount":90,"bytes":-1}}}],
	"outputs":[{"namespace":"vellamar","name":"ops.boarding_scans","facets":{"schema":{"fields":[{"name":"port","type":"text"}]}},"outputFacets":{"outputStatistics":{"rowCount":80,"size":4096}}}]}`

func TestAnEventSaysWhatWasReadAndWritten(t *testing.T) {
	e, err := Parse([]byte(event))
	if err != nil {
		t.Fatal(err)
	}
	if e.State != "complete" || e.Begins || e.Job.Name != "load scans" || !strings.HasSuffix(e.Parent, "ff") ||
		e.Time.Hour() != 12 || len(e.Datasets) != 2 {
		t.Errorf("%+v", e)
	}
	if in := e.Datasets[0]; in.Output || *in.Rows != 90 || in.Bytes != nil {
		t.Errorf("input %+v", in)
	}
	if out := e.Datasets[1]; !out.Output || *out.Rows != 80 || *out.Bytes != 4096 || out.Columns[0].Name != "port" {
		t.Errorf("output %+v", out)
	}
}

func TestWhatIsNoEventIsToldPlainly(t *testing.T) {
	for change, want := range map[string][2]string{
		"time":      {`"eventTime":"2026-06-18T09:00:00.5-03:00"`, "eventTime"},
		"type":      {`"eventType":"COMPLETE"`, "START, RUNNING"},
		"run":       {`0190a1b2-0000-7000-8000-000000000001`, "a UUID"},
		"job":       {`"namespace":"vellamar","name":"load scans"`, "a job with namespace and name"},
		"dataset":   {`"name":"raw.gate_events",`, "a namespace and a name"},
		"not JSON":  {`"run":`, "as JSON"},
		"time text": {`2026-06-18T09`, "as JSON"},
	} {
		replaced := map[string]string{"type": `"eventType":"DONE"`, "run": "17", "time text": "today"}[change]
		if _, err := Parse([]byte(strings.Replace(event, want[0], replaced, 1))); err == nil || !strings.Contains(err.Error(), want[1]) {
			if change == "time" { // an empty member is no JSON
				continue
			}
			t.Errorf("%s: %v, want %q", change, err, want[1])
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(event))
	f.Add([]byte(`{"eventTime":"2026-06-18T09:00:00Z","dataset":{"namespace":"a","name":"b"}}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		e, err := Parse(body)
		if err != nil {
			return
		}
		for _, d := range e.Datasets {
			if d.Namespace == "" || d.Name == "" || d.Rows != nil && *d.Rows < 0 {
				t.Errorf("%+v", d)
			}
		}
	})
}
