package logs

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"tinbell/core/template"
	"tinbell/internal/record"
)

const (
	longestLine = 64 << 10 // bytes of a line that are looked at
	maxProblems = 100
	// ahead is how far a line's clock may be ahead of this one.
	ahead = time.Hour
)

// entry is a line with its time and severity.
type entry struct {
	number   int64 // of its line in what was sent
	at       time.Time
	severity string   // "" if nothing says it
	by       []string // values of the attributes by which lines are counted apart
	text     []byte

	attributes map[string]string // of an export: all that it says
}

// LogProblem names a line that was refused.
type LogProblem struct {
	Line   int64  `json:"line"`
	Reason string `json:"reason"`
}

// reader hands over entries, one after another. What it hands over is overwritten by the
// next.
type reader struct {
	in       *bufio.Reader
	by       []string // attributes by which lines are counted apart
	goesOn   bool     // what is read begins in the middle of a file
	json     bool
	now      time.Time
	zone     *time.Location
	line     int64
	cut      int64
	lines    int64 // that belong to an entry before them
	last     time.Time
	refuse   func(line int64, why error)
	pending  []byte
	buffer   []byte
	finished bool
}

// next gives the next entry; io.EOF after the last.
func (r *reader) next() (e entry, err error) {
	for {
		text, err := r.readLine()
		if err != nil {
			return e, err
		}
		if len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		if r.json {
			if e, err = r.object(text); err != nil {
				r.refuse(r.line, err)
				continue
			}
			return e, nil
		}
		if continues(text) && (r.line > 1 || r.goesOn) {
			r.lines++ // of a trace: it belongs to the line before
			continue
		}
		e = entry{number: r.line, text: text, at: r.timeOf(text), by: r.keyed(text)}
		return e, nil
	}
}

// continues tells whether a line goes on what the one before it says, as those of a trace.
func continues(line []byte) bool {
	if line[0] == ' ' || line[0] == '\t' {
		return true
	}
	return bytes.HasPrefix(line, []byte("Caused by:")) || bytes.HasPrefix(line, []byte("Traceback (")) || bytes.HasPrefix(line,
		[]byte("... ")) || bytes.HasPrefix(line, []byte("at ")) && bytes.IndexByte(line, '(') > 0
}

// readLine gives a line without its end; what is longer than is looked at is cut.
func (r *reader) readLine() ([]byte, error) {
	r.buffer = r.buffer[:0]
	long := false
	for {
		part, err := r.in.ReadSlice('\n')
		if room := longestLine - len(r.buffer); room > 0 {
			r.buffer = append(r.buffer, part[:min(len(part), room)]...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			long = true
			continue
		case err != nil && len(r.buffer) == 0:
			return nil, err
		case err != nil && !errors.Is(err, io.EOF):
			return nil, err
		}
		if r.line++; long && len(r.buffer) >= longestLine {
			r.cut++
		}
		return bytes.TrimRight(r.buffer, "\r\n"), nil
	}
}

// timeOf is the time that a line begins with; that of the line before where it has none,
// and now where none has.
func (r *reader) timeOf(text []byte) time.Time {
	head := string(text[:min(len(text), 40)])
	head = strings.TrimLeft(head, "[(<")
	for _, form := range []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00", "2006-01-02T15:04:05.999999999",
		"2006-01-02 15:04:05.999999999", "2006-01-02 15:04:05,999999999", "2006/01/02 15:04:05.999999999"} {
		end := strings.IndexAny(head, " ])>")
		if strings.Contains(form, " ") && end > 0 && end+1 < len(head) {
			if next := strings.IndexAny(head[end+1:], " ])>"); next > 0 {
				end += 1 + next
			} else {
				end = len(head)
			}
		}
		if end < 0 {
			end = len(head)
		}
		if at, err := time.ParseInLocation(form, head[:end], r.zone); err == nil && r.sane(at) {
			r.last = at
			return at
		}
	}
	if r.last.IsZero() {
		return r.now
	}
	return r.last
}

func (r *reader) sane(at time.Time) bool {
	return at.After(record.Furthest(r.now)) && at.Before(r.now.Add(ahead))
}

// object reads a line of NDJSON: what it says is in body, message or msg, its time in at,
// time, timestamp or ts, its severity in severity or level.
func (r *reader) object(text []byte) (entry, error) {
	var fields map[string]any
	if err := json.Unmarshal(text, &fields); err != nil {
		return entry{}, fmt.Errorf("not a JSON object: %w", err)
	}
	e := entry{number: r.line, at: r.now}
	find := func(names ...string) (any, bool) {
		for _, n := range names {
			if v, there := fields[n]; there && v != nil {
				return v, true
			}
		}
		return nil, false
	}
	body, there := find("body", "message", "msg")
	if !there {
		return e, errors.New("it says nothing: body, message or msg is missing")
	}
	said, ok := body.(string)
	if !ok {
		raw, err := json.Marshal(body, json.Deterministic(true))
		if err != nil {
			return e, err
		}
		said = string(raw)
	}
	if first, _, several := strings.Cut(said, "\n"); several { // of a trace the first line
		said = first
	}
	if e.text = []byte(said); len(bytes.TrimSpace(e.text)) == 0 {
		return e, errors.New("it says nothing")
	}
	if len(e.text) > longestLine {
		e.text = e.text[:longestLine]
		r.cut++
	}
	if v, there := find("at", "time", "timestamp", "ts"); there {
		at, err := instant(v)
		switch {
		case err != nil:
			return e, err
		case !r.sane(at):
			return e, fmt.Errorf("its time %s lies more than %s ahead, or more than 25 years back", at.Format(time.RFC3339), ahead)
		}
		e.at = at
	}
	if v, there := find("severity", "level", "severity_text"); there {
		if name, ok := v.(string); ok {
			e.severity = template.SeverityOf(name)
		}
	}
	for _, name := range r.by {
		e.by = append(e.by, field(fields, name))
	}
	return e, nil
}

// field gives what an object says under a name, also one with dots that leads into
// objects within it.
func field(fields map[string]any, name string) string {
	v, there := fields[name]
	if first, rest, deeper := strings.Cut(name, "."); !there && deeper {
		if inner, is := fields[first].(map[string]any); is {
			return field(inner, rest)
		}
	}
	switch v := v.(type) {
	case nil, map[string]any, []any:
		return ""
	case string:
		return v
	default:
		return fmt.Sprint(v)
	}
}

// keyed gives the values that a line of text says as name=value.
func (r *reader) keyed(text []byte) []string {
	if len(r.by) == 0 {
		return nil
	}
	list := make([]string, len(r.by))
	for i, name := range r.by {
		for rest := text; ; {
			at := bytes.Index(rest, []byte(name+"="))
			if at < 0 {
				break
			}
			value := rest[at+len(name)+1:]
			if at > 0 && bytes.IndexByte([]byte(" \t[({,;"), rest[at-1]) < 0 { // the end of another name
				rest = value
				continue
			}
			if len(value) > 0 && value[0] == '"' {
				value = value[1:]
				value = value[:max(bytes.IndexByte(value, '"'), 0)]
			} else if end := bytes.IndexAny(value, " \t,;)]}"); end >= 0 {
				value = value[:end]
			}
			list[i] = string(value)
			break
		}
	}
	return list
}

// instant reads a time as RFC 3339, or as seconds, milliseconds or nanoseconds of the epoch.
func instant(v any) (time.Time, error) {
	switch v := v.(type) {
	case string:
		at, err := time.Parse(time.RFC3339Nano, v)
		if err != nil {
			return at, fmt.Errorf("its time %q is not RFC 3339", v)
		}
		return at, nil
	case float64:
		switch {
		case v > 1e17:
			return time.Unix(0, int64(v)), nil
		case v > 1e11:
			return time.UnixMilli(int64(v)), nil
		}
		return time.UnixMilli(int64(v * 1000)), nil
	}
	return time.Time{}, errors.New("its time is neither RFC 3339 nor a number")
}
