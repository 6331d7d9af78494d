// Package config is what is set up as files: read, written, compared and put in
// force. A file holds YAML documents, one for each thing; durations are written
// as people say them. Passwords are in no file: ${NAME} stands for the variable
// of that name where the files are loaded.
package config

import (
	"fmt"
	"hash/crc32"
	"reflect"
	"slices"
	"strings"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/record"
)

// Documents are things by kind. What is empty is left out of files.
type Documents struct {
	Sources  []WrittenSource  `json:"sources,omitempty"`
	Datasets []WrittenDataset `json:"datasets"`
	Metrics  []WrittenMetric  `json:"metrics"`
	Monitors []WrittenMonitor `json:"monitors"`

	Calendars []WrittenCalendar `json:"calendars,omitempty"`
	Channels  []WrittenChannel  `json:"channels,omitempty"`
	Routes    []WrittenRoute    `json:"routes,omitempty"`
	SLAs      []WrittenSLA      `json:"slas,omitempty"`

	Comparisons []WrittenComparison `json:"comparisons,omitempty"`

	Reconciliations []WrittenReconciliation `json:"reconciliations,omitempty"`

	Logs []WrittenLog `json:"logs,omitempty"`
}

// WrittenSource is where measurements come from: a warehouse's address without
// its password, or a folder.
type WrittenSource struct {
	Name     string `json:"name"`
	Address  string `json:"address"`
	Password string `json:"password,omitempty" secret:"true"`
}

// WrittenCalendar is a calendar with the text of its iCalendar file, or the
// holidays of a country.
type WrittenCalendar struct {
	Name    string        `json:"name"`
	Country string        `json:"country,omitempty"`
	Zone    string        `json:"zone,omitempty"`
	Dataset string        `json:"dataset,omitempty"`
	Effect  record.Effect `json:"effect,omitempty" enum:"mute,widen,leave out"`
	ICal    string        `json:"ical,omitempty"`

	Address      string `json:"address,omitempty" secret:"true" doc:"of a calendar that is fetched: ${NAME} stands for the variable of that name where the files are loaded"`
	EverySeconds int64  `json:"every_seconds,omitempty" doc:"how often it is fetched"`
}

// fetched tells whether a calendar is fetched by address, be the address known here or
// not.
func (c WrittenCalendar) fetched() bool { return c.Address != "" || c.EverySeconds > 0 }

// Join adds the documents of another file.
func (d *Documents) Join(o Documents) {
	o.each(func(_, _ string, v reflect.Value) { d.add(v.Interface()) })
}

// WrittenDataset is a dataset of a source.
type WrittenDataset struct {
	Name      string `json:"name"`
	Source    string `json:"source"`
	Namespace string `json:"namespace,omitempty"`
	Owner     string `json:"owner,omitempty"`
	Zone      string `json:"zone,omitempty"`
	LoadedBy  string `json:"loaded_by,omitempty"`
	Pattern   string `json:"pattern,omitempty"`
	KeepDays  int    `json:"keep_days,omitempty"`

	Hidden record.Strings `json:"hidden,omitempty"`
	Tags   record.Strings `json:"tags,omitempty"`
}

// WrittenMetric is a metric of a dataset. One without every or cron is pushed.
type WrittenMetric struct {
	Name            string         `json:"name"`
	Dataset         string         `json:"dataset"`
	Measure         string         `json:"measure"`
	Column          string         `json:"column,omitempty"`
	Quantile        float64        `json:"quantile,omitempty"`
	Matches         string         `json:"matches,omitempty"`
	Expression      string         `json:"expression,omitempty"`
	Values          timeline.Kind  `json:"values,omitempty" enum:"count,share,value,duration"`
	TimeColumn      string         `json:"time_column,omitempty"`
	SegmentBy       record.Strings `json:"segment_by,omitempty"`
	RowFilter       string         `json:"row_filter,omitempty"`
	Unit            string         `json:"unit,omitempty"`
	PeriodSeconds   int64          `json:"period_seconds"`
	SettleSeconds   int64          `json:"settle_seconds,omitempty"`
	LookbackSeconds int64          `json:"lookback_seconds,omitempty"`
	EverySeconds    int64          `json:"every_seconds,omitempty"`
	Cron            string         `json:"cron,omitempty"`
	MaxSegments     int            `json:"max_segments,omitempty"`
	OTLP            string         `json:"otlp,omitempty"`
	Tags            record.Strings `json:"tags,omitempty"`
}

// WrittenMonitor is a monitor on a metric, with its settings beside its name.
type WrittenMonitor struct {
	Name   string         `json:"name"`
	Metric string         `json:"metric"`
	Owner  string         `json:"owner,omitempty"`
	Tags   record.Strings `json:"tags,omitempty"`
	Paused bool           `json:"paused,omitempty"`
	record.Settings
}

// WrittenComparison is a drift comparison, with its settings beside its name.
type WrittenComparison struct {
	Name    string `json:"name"`
	Dataset string `json:"dataset"`
	Owner   string `json:"owner,omitempty"`
	record.ComparisonSettings
}

// WrittenReconciliation compares two metrics; the metric of the difference has its
// name.
type WrittenReconciliation struct {
	Name       string  `json:"name"`
	Up         string  `json:"up"`
	Down       string  `json:"down"`
	LagSeconds int64   `json:"lag_seconds,omitempty"`
	Tolerance  float64 `json:"tolerance,omitempty"`
	UpKey      string  `json:"up_key,omitempty"`
	DownKey    string  `json:"down_key,omitempty"`
}

// WrittenLog is a log that is counted; its metric is written with the metrics.
type WrittenLog struct {
	Name          string         `json:"name"`
	Dataset       string         `json:"dataset"`
	KeepSamples   int            `json:"keep_samples" doc:"lines kept of each sentence, 0 to 20"`
	Watch         record.Strings `json:"watch,omitempty" doc:"severities of which a new sentence is told"`
	RareSeconds   int64          `json:"rare_seconds,omitempty" doc:"all that is told together comes no more often than once in so long"`
	NormalSeconds int64          `json:"normal_seconds,omitempty" doc:"after so long a new sentence is part of what is usual"`
	Kinds         record.Strings `json:"kinds,omitempty" doc:"what is told: new, burst, vanished; all if left out"`
	Job           string         `json:"job,omitempty" doc:"that writes it"`
	Service       string         `json:"service,omitempty" doc:"that writes it"`
	Source        string         `json:"source,omitempty" doc:"the folder where files of it land"`
	Pattern       string         `json:"pattern,omitempty" doc:"which of them are followed"`
	By            record.Strings `json:"by,omitempty" doc:"attributes by which lines are counted apart"`
	Masked        record.Strings `json:"masked,omitempty" doc:"words whose values are masked, and expressions between slashes"`
}

// kinds in the order in which they are written and put in force.
var kinds = []struct {
	name string
	kind reflect.Type
}{{"source", reflect.TypeFor[WrittenSource]()}, {"dataset", reflect.TypeFor[WrittenDataset]()},
	{"metric", reflect.TypeFor[WrittenMetric]()}, {"monitor", reflect.TypeFor[WrittenMonitor]()},
	{"calendar", reflect.TypeFor[WrittenCalendar]()},
	{"channel", reflect.TypeFor[WrittenChannel]()}, {"route", reflect.TypeFor[WrittenRoute]()},
	{"sla", reflect.TypeFor[WrittenSLA]()}, {"comparison", reflect.TypeFor[WrittenComparison]()},
	{"reconciliation", reflect.TypeFor[WrittenReconciliation]()}, {"log", reflect.TypeFor[WrittenLog]()}}

// field is one key of a document.
type field struct {
	key      string
	index    []int
	duration bool // whole seconds, written as 90s, 1h, 8w
	optional bool
	secret   bool // never compared
	enum     []string
	kind     reflect.Type
	doc      string
}

// parts tells whether it is a list of things with keys of their own.
func (f field) parts() bool {
	return f.kind.Kind() == reflect.Slice && f.kind.Elem().Kind() == reflect.Struct
}

// fieldsOf lists the keys of a kind of document. A member x_seconds is the key x.
func fieldsOf(t reflect.Type) []field {
	var list []field
	for _, f := range reflect.VisibleFields(t) {
		tag, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if tag == "" || tag == "-" || f.Anonymous {
			continue
		}
		key, duration := strings.CutSuffix(tag, "_seconds")
		one := field{key: key, index: f.Index, duration: duration, optional: strings.Contains(options, "omitempty") ||
			f.Tag.Get("default") != "", kind: f.Type, doc: f.Tag.Get("doc"), secret: f.Tag.Get("secret") != ""}
		if enum := f.Tag.Get("enum"); enum != "" {
			one.enum = strings.Split(enum, ",")
		}
		list = append(list, one)
	}
	return list
}

// add appends a document to those of its kind.
func (d *Documents) add(v any) {
	one := reflect.ValueOf(v)
	d.lists(func(_ string, list reflect.Value) {
		if list.Type().Elem() == one.Type() {
			list.Set(reflect.Append(list, one))
		}
	})
}

// each hands over every document with its kind and name.
func (d *Documents) each(do func(kind, name string, v reflect.Value)) {
	d.lists(func(kind string, list reflect.Value) {
		for i := range list.Len() {
			do(kind, list.Index(i).FieldByName("Name").String(), list.Index(i))
		}
	})
}

// lists hands over the list of each kind, in their order.
func (d *Documents) lists(do func(kind string, list reflect.Value)) {
	all := reflect.ValueOf(d).Elem()
	for _, k := range kinds {
		for i := range all.NumField() {
			if list := all.Field(i); list.Type().Elem() == k.kind {
				do(k.name, list)
			}
		}
	}
}

// duration writes whole seconds with the largest unit that they are made of.
func duration(seconds int64) string {
	if seconds < 0 {
		return "never"
	}
	for _, unit := range []struct {
		name string
		of   int64
	}{{"y", 365 * 86400}, {"w", 7 * 86400}, {"d", 86400}, {"h", 3600}, {"m", 60}} {
		if seconds >= unit.of && seconds%unit.of == 0 && (unit.name != "w" || seconds >= 4*unit.of) && (unit.name != "d" ||
			seconds > unit.of) {
			return fmt.Sprintf("%d%s", seconds/unit.of, unit.name)
		}
	}
	return fmt.Sprintf("%ds", seconds)
}

// Change is what loading would do to one thing.
type Change struct {
	Kind   string        `json:"kind"`
	Name   string        `json:"name"`
	What   string        `json:"what" enum:"added,changed,kept,removed" doc:"kept: it is set up and in no file; removed: and goes, since that was asked for (a monitor retires)"`
	Fields []FieldChange `json:"fields"`
}

// FieldChange is one key that differs.
type FieldChange struct {
	Key string `json:"key"`
	Was string `json:"was"`
	Is  string `json:"is"`
}

// Compare lists what makes the wanted things of those there are.
func Compare(there, wanted Documents) []Change {
	type id struct{ kind, name string }
	known := map[id]map[string]string{}
	there.each(func(kind, name string, v reflect.Value) { known[id{kind, name}] = said(v) })
	changes := []Change{}
	wanted.each(func(kind, name string, v reflect.Value) {
		was, is := known[id{kind, name}], said(v)
		delete(known, id{kind, name})
		c := Change{Kind: kind, Name: name, What: "changed", Fields: []FieldChange{}}
		if was == nil {
			c.What = "added"
		}
		for _, f := range fieldsOf(v.Type()) {
			if f.key != "name" && was[f.key] != is[f.key] {
				c.Fields = append(c.Fields, FieldChange{f.key, was[f.key], is[f.key]})
			}
		}
		if was == nil || len(c.Fields) > 0 {
			changes = append(changes, c)
		}
	})
	there.each(func(kind, name string, _ reflect.Value) {
		if known[id{kind, name}] != nil {
			changes = append(changes, Change{Kind: kind, Name: name, What: "kept", Fields: []FieldChange{}})
		}
	})
	return changes
}

// said writes each key of a document as a file would.
func said(v reflect.Value) map[string]string {
	all := map[string]string{}
	for _, f := range fieldsOf(v.Type()) {
		value := v.FieldByIndex(f.index)
		if empty(value) || f.secret {
			continue
		}
		if value.Kind() == reflect.Pointer {
			value = value.Elem()
		}
		text := fmt.Sprint(value.Interface())
		if f.duration {
			text = duration(value.Int())
		} else if f.parts() {
			text = saidParts(value)
		} else if lines := strings.Count(text, "\n"); lines > 0 { // a whole file: told by its length and checksum
			text = fmt.Sprintf("%d lines (%08x)", lines, crc32.ChecksumIEEE([]byte(text)))
		}
		all[f.key] = text
	}
	return all
}

// saidParts writes things with keys of their own, one after another.
func saidParts(list reflect.Value) string {
	var parts []string
	for i := range list.Len() {
		own, text := said(list.Index(i)), []string{}
		for _, f := range fieldsOf(list.Type().Elem()) {
			if value, there := own[f.key]; there {
				text = append(text, f.key+" "+value)
			}
		}
		parts = append(parts, strings.Join(text, ", "))
	}
	return strings.Join(parts, "; ")
}

// empty tells what is left out of files.
func empty(v reflect.Value) bool {
	return v.IsZero() || v.Kind() == reflect.Slice && v.Len() == 0
}

// parseDuration reads what duration writes, in whole seconds.
func parseDuration(text string) (int64, error) {
	if text == "never" {
		return -1, nil
	}
	d, err := collect.ParsePeriod(text)
	if err != nil || d%time.Second != 0 {
		return 0, fmt.Errorf("%q is no duration: write a number and a unit, as 90s, 15m, 1h, 30d, 8w, 1mo, 1y", text)
	}
	return int64(d / time.Second), nil
}

// Schema is the JSON Schema of a document, so that editors complete it.
func Schema() map[string]any {
	var forms []any
	for _, k := range kinds {
		form := schemaOf(k.kind)
		form["title"], form["properties"].(map[string]any)["kind"] = k.name, map[string]any{"const": k.name}
		form["required"] = slices.Sorted(slices.Values(append(form["required"].([]string), "kind")))
		forms = append(forms, form)
	}
	return map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Tin Bell configuration", "oneOf": forms}
}

// schemaOf is the schema of a value's members.
func schemaOf(t reflect.Type) map[string]any {
	properties, required := map[string]any{}, []string{}
	for _, f := range fieldsOf(t) {
		p := map[string]any{}
		kind := f.kind
		if kind.Kind() == reflect.Pointer {
			kind = kind.Elem()
		}
		switch {
		case f.duration:
			p["type"], p["pattern"] = "string", `^(never|[0-9.]+[smhdwy])$`
		case f.parts():
			p["type"], p["items"] = "array", schemaOf(kind.Elem())
		case kind.Kind() == reflect.Slice:
			p["type"], p["items"] = "array", map[string]any{"type": "string"}
		case kind.Kind() == reflect.Bool:
			p["type"] = "boolean"
		case kind.Kind() == reflect.String:
			p["type"] = "string"
		default:
			p["type"] = "number"
		}
		if f.doc != "" {
			p["description"] = f.doc
		}
		if len(f.enum) > 0 && p["type"] == "string" {
			p["enum"] = f.enum
		}
		properties[f.key] = p
		if !f.optional {
			required = append(required, f.key)
		}
	}
	slices.Sort(required)
	return map[string]any{"type": "object", "properties": properties, "required": required, "additionalProperties": false}
}

func written(m record.Metric) WrittenMetric {
	v := WrittenMetric{Name: m.Name, Dataset: m.Dataset, Measure: m.Measure, Column: m.Column, Matches: m.Matches,
		Expression: m.Expression, TimeColumn: m.TimeColumn,
		SegmentBy: m.SegmentBy, RowFilter: m.RowFilter, Unit: m.Unit, PeriodSeconds: m.PeriodSeconds,
		SettleSeconds: m.SettleSeconds, LookbackSeconds: m.LookbackSeconds,
		EverySeconds: m.EverySeconds, Cron: m.Cron, OTLP: m.OTLPName, Tags: m.Tags}
	if m.Measure == record.MeasureQuantile {
		v.Quantile = m.Quantile
	}
	if m.Pushed() || m.Measure == record.MeasureExpression {
		v.Values = m.Kind
	}
	if m.MaxSegments != 500 {
		v.MaxSegments = m.MaxSegments
	}
	return v
}
