package notify

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"text/template"
	"text/template/parse"
	"time"
	"unicode/utf8"

	"tinbell/internal/record"
)

// Forms of what webhooks send.
const (
	FormCloudEvent = "cloudevent"
	FormChat       = "chat"
	FormTicket     = "ticket"
	FormOwn        = "own"
)

// maxFilled is the size of what a template may make, in bytes.
const maxFilled = 256 << 10

var templateFuncs = template.FuncMap{
	"json": func(v any) (string, error) {
		b, err := json.Marshal(v)
		return string(b), err
	},
	"upper": strings.ToUpper,
	"lower": strings.ToLower,
}

// fill makes a body from a template.
func fill(text string, f Facts) (string, error) {
	t, err := template.New("template").Funcs(templateFuncs).Option("missingkey=error").Parse(text)
	if err != nil {
		return "", err
	}
	var b limited
	err = t.Execute(&b, f)
	return b.String(), err
}

type limited struct{ strings.Builder }

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > maxFilled {
		return 0, fmt.Errorf("it makes more than %d kB", maxFilled>>10)
	}
	return l.Builder.Write(p)
}

// CheckTemplate refuses a template that could fail when an alert is to be told:
// it must parse, name only what messages have, and make JSON if that is what is
// sent. The error names line and column.
func CheckTemplate(text, contentType string) error {
	refuse := func(line, column int, why string) error {
		return record.Invalid{Field: "template", Given: fmt.Sprintf("line %d, column %d", line, column),
			Allowed: why + "; what there is to say: " + fieldNames}
	}
	if strings.TrimSpace(text) == "" {
		return record.Invalid{Field: "template", Given: "", Allowed: "the body to send, such as {\"text\": {{json .Title}}}"}
	}
	t, err := template.New("template").Funcs(templateFuncs).Parse(text)
	if err != nil {
		line, why := lineOf(err)
		return refuse(line, columnOf(text, line, err), why)
	}
	if at, why := bounded(t.Tree.Root); why != "" {
		line, column := position(text, int(at))
		return refuse(line, column, why)
	}
	for _, f := range samples() {
		made, err := fill(text, f)
		var exec template.ExecError
		if errors.As(err, &exec) {
			line, column, why := placeOf(exec.Error())
			return refuse(line, column, why)
		}
		if err != nil {
			return refuse(1, 1, err.Error())
		}
		if strings.Contains(contentType, "json") || contentType == "" {
			var syntax *json.SyntaxError
			if err := json.Unmarshal([]byte(made), new(any)); errors.As(err, &syntax) {
				line, column := position(made, int(syntax.Offset)-1)
				return record.Invalid{Field: "template", Given: fmt.Sprintf("what it makes, line %d, column %d: %s", line, column,
					excerpt(made, int(syntax.Offset))),
					Allowed: "a template that makes JSON (" + syntax.Error() +
						"); write texts as {{json .Sentence}}, which sets the quotes"}
			}
		}
	}
	return nil
}

const fieldNames = ".Title .Sentence .News .What .Severity .State .Group .Since .SinceUTC .Over .Lasted .Zone .Dataset .Segment .Monitor .Owner .Observed .Expected .Figures .HowRare .Origin .Why .TakenBy .Key, the lists .Alerts .Alike .Told, .Links.Group .Links.Alert .Links.Fault .Links.Noise .Links.Planned .Links.Take .Links.Picture, and the functions json, upper, lower"

// samples are facts such as messages may have, empty and full.
func samples() []Facts {
	full := Facts{Key: newID(), What: string(record.ToldOpened), Title: `Warning: "north" sends 30 % fewer rows`,
		Sentence: `"north" sends 30 % fewer rows`, Severity: "warning", State: "open", Group: "12",
		Since: "Mon 2 Jan 15:04", SinceUTC: "2006-01-02T15:04:05Z", Lasted: "3 h", Zone: "UTC", Dataset: "ops.orders",
		Segment: "north", Monitor: "orders-volume", Owner: "Data desk",
		Observed: "70 rows", Expected: "100 rows", HowRare: "about once in 410 days", Origin: "raw.orders",
		Figures: "70 rows from Mon 08:00 to 11:00, expected 100", Why: "channel = web: 20 rows, expected 50: 96 % of all that fell",
		Alerts: []FactAlert{{"a \\ b", "warning", "Mon 2 Jan 15:04", "open", "https://x.example/alerts/1"}},
		Alike:  []FactAlike{{"c", "1 Jan 10:00", "noise", "a \"trip\""}},
		Told:   []FactTold{{"d", "10:00 UTC", "https://x.example/groups/1"}}, at: time.Now()}
	return []Facts{full, {Severity: "warning", Alerts: []FactAlert{}, Alike: []FactAlike{}, Told: []FactTold{}}}
}

// bounded tells why a template's work has no bound that can be seen: it may go
// over the lists of a message, and nothing else.
func bounded(n parse.Node) (parse.Pos, string) {
	walk := func(list *parse.ListNode) (parse.Pos, string) {
		if list == nil {
			return 0, ""
		}
		for _, one := range list.Nodes {
			if at, why := bounded(one); why != "" {
				return at, why
			}
		}
		return 0, ""
	}
	both := func(b parse.BranchNode) (parse.Pos, string) {
		if at, why := walk(b.List); why != "" {
			return at, why
		}
		return walk(b.ElseList)
	}
	switch v := n.(type) {
	case *parse.ListNode:
		return walk(v)
	case *parse.IfNode:
		return both(v.BranchNode)
	case *parse.WithNode:
		return both(v.BranchNode)
	case *parse.RangeNode:
		over := strings.TrimSpace(v.Pipe.Cmds[0].String())
		if len(v.Pipe.Cmds) != 1 || over != ".Alerts" && over != ".Alike" && over != ".Told" {
			return v.Pos, "range goes over the lists of a message alone"
		}
		return both(v.BranchNode)
	case *parse.TemplateNode:
		return v.Pos, "templates within templates are not taken"
	}
	return 0, ""
}

// lineOf reads the line and the reason from a parser's error, "template:
// NAME:LINE: WHY".
func lineOf(err error) (int, string) {
	parts := strings.SplitN(err.Error(), ":", 4)
	line := 1
	if len(parts) < 4 {
		return line, err.Error()
	}
	fmt.Sscan(parts[2], &line)
	return line, strings.TrimSpace(parts[3])
}

// placeOf reads an execution error, "template: NAME:LINE:COLUMN: executing …: WHY".
func placeOf(message string) (line, column int, why string) {
	parts := strings.SplitN(message, ":", 5)
	if len(parts) < 5 {
		return 1, 1, message
	}
	fmt.Sscan(parts[2], &line)
	fmt.Sscan(parts[3], &column)
	why = strings.TrimSpace(parts[4])
	if _, after, found := strings.Cut(why, ">: "); found {
		why = after
	}
	return line, column + 1, why
}

// columnOf finds which action of a line a parser's error is about, since the
// parser tells the line alone: the first one with which the text up to it fails
// in the same way.
func columnOf(text string, line int, err error) int {
	_, why := lineOf(err)
	lines := strings.SplitAfter(text, "\n")
	if line > len(lines) {
		line = len(lines)
	}
	before := strings.Join(lines[:line-1], "")
	current := lines[line-1]
	for from := 0; ; {
		at := strings.Index(current[from:], "{{")
		if at < 0 {
			break
		}
		at += from
		end := strings.Index(current[at:], "}}")
		if end < 0 {
			return utf8.RuneCountInString(current[:at]) + 1
		}
		_, partErr := template.New("template").Funcs(templateFuncs).Parse(before + current[:at+end+2])
		if partErr != nil {
			if _, partWhy := lineOf(partErr); partWhy == why {
				return utf8.RuneCountInString(current[:at]) + 1
			}
		}
		from = at + end + 2
	}
	return max(utf8.RuneCountInString(strings.TrimRight(current, "\n")), 1)
}

// position says a byte's line and column, from 1.
func position(text string, at int) (line, column int) {
	at = min(max(at, 0), len(text))
	before := text[:at]
	start := strings.LastIndexByte(before, '\n') + 1
	return strings.Count(before, "\n") + 1, utf8.RuneCountInString(before[start:]) + 1
}

func excerpt(text string, at int) string {
	return strings.ToValidUTF8(text[max(0, at-20):min(len(text), at+10)], "")
}
