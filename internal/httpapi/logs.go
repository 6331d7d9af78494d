package httpapi

import (
	"context"
	"mime"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/logs"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

type logInput struct {
	Streamed
	Log     string `query:"log" required:"true" doc:"the log's name: small letters, digits, dots, hyphens"`
	Dataset string `query:"dataset" doc:"whose loaders write it; it, a job or a service is needed once, when the log is new"`
	Job     string `query:"job" doc:"that writes it"`
	Service string `query:"service" doc:"that writes it"`
	Source  string `query:"source" maxLength:"500" doc:"the file: lines of it that were counted do not count again. All count if left out"`
	First   int64  `query:"first_line" minimum:"1" default:"1" doc:"which line of the file is the first one sent"`
}

var _ huma.Resolver = (*logInput)(nil)

// OfLog names a log.
type OfLog struct {
	Name string `path:"name"`
}

// OfTemplate names a sentence of a log.
type OfTemplate struct {
	OfLog
	Number int `path:"number"`
}

// Stretch is a stretch of a log.
type Stretch struct {
	From time.Time `query:"from" doc:"an hour before the end if left out"`
	To   time.Time `query:"to" doc:"now if left out"`
}

func (v Stretch) span(now time.Time, long time.Duration) (from, to time.Time, err error) {
	if to = v.To; to.IsZero() {
		to = now
	}
	if from = v.From; from.IsZero() {
		from = to.Add(-long)
	}
	if !from.Before(to) {
		return from, to, record.Invalid{Field: "to", Given: to.Format(time.RFC3339), Allowed: "a time after from"}
	}
	return from, to, nil
}

func (s *server) addLogs(api huma.API) {
	lines := &huma.Schema{Type: "string", Description: "one entry a line"}
	operation := huma.Operation{
		Method: "POST", Path: "/api/v1/logs", OperationID: "push-logs",
		Summary:      "Count log lines by the sentences that they are made from: plain text, or NDJSON with body, at and severity; gzip allowed. Lines are not kept",
		MaxBodyBytes: -1, SkipValidateBody: true, Metadata: map[string]any{"role": people.Editor, "confined": true},
		RequestBody: &huma.RequestBody{Required: true,
			Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: lines}, "text/plain": {Schema: lines}}},
	}
	huma.Register(api, operation, func(ctx context.Context, in *logInput) (*body[logs.LogReceipt], error) {
		if limits := confinedTo(ctx); limits != nil {
			if err := limits.before(ctx, in, false); err != nil {
				return nil, problem(ctx, err)
			}
		}
		out, err := ok(s.pushLogs(ctx, in))
		return out, problem(ctx, err)
	})
	add(api, "GET", "/logs", "logs",
		"The logs, with how many sentences their lines are made from", people.Reader,
		func(ctx context.Context, _ *struct{}) (*body[[]record.Log], error) {
			return ok(s.Store.Logs(ctx))
		})
	add(api, "GET", "/log-sentences", "find-sentences",
		"The sentences of all logs that came in a stretch: by words, severity and dataset, most frequent first", people.Reader,
		func(ctx context.Context, in *struct {
			Stretch
			Severity string `query:"severity" enum:"TRACE,DEBUG,INFO,WARN,ERROR,FATAL," doc:"of this severity alone"`
			Words    string `query:"words" doc:"with all of these words"`
			Dataset  string `query:"dataset" doc:"of its logs alone"`
			Limit    int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[logs.Finding], error) {
			from, to, err := in.span(s.Now(), 24*time.Hour)
			if err != nil {
				return nil, err
			}
			if in.Dataset != "" {
				if _, err := s.Store.Dataset(ctx, in.Dataset); err != nil {
					return nil, err
				}
			}
			return ok(s.Logs.Find(ctx, in.Dataset, from, to, logs.Narrow{Severity: in.Severity, Words: in.Words}, in.Limit))
		})
	add(api, "GET", "/logs/{name}", "log", "One log with what is set of it", people.Reader,
		func(ctx context.Context, in *OfLog) (*body[record.Log], error) {
			return ok(s.Store.Log(ctx, in.Name))
		})
	add(api, "GET", "/logs/{name}/templates", "log-templates",
		"The sentences of a log that came in a stretch, most frequent first", people.Reader,
		func(ctx context.Context, in *struct {
			OfLog
			Stretch
			Severity string `query:"severity" enum:"TRACE,DEBUG,INFO,WARN,ERROR,FATAL," doc:"of this severity alone"`
			Words    string `query:"words" doc:"with all of these words"`
			Where    string `query:"where" doc:"attribute=value: lines with that value alone"`
		}) (*body[logs.Sayings], error) {
			from, to, err := in.span(s.Now(), 24*time.Hour)
			if err != nil {
				return nil, err
			}
			return ok(s.Logs.Look(ctx, in.Name, from, to, logs.Narrow{Severity: in.Severity, Words: in.Words, Where: in.Where}))
		})
	add(api, "GET", "/logs/{name}/templates/{number}", "log-template",
		"One sentence of a log: when it came, with a few lines", people.Reader,
		func(ctx context.Context, in *struct {
			OfTemplate
			Stretch
		}) (*body[logs.One], error) {
			from, to, err := in.span(s.Now(), 14*24*time.Hour)
			if err != nil {
				return nil, err
			}
			return ok(s.Logs.Template(ctx, in.Name, in.Number, from, to))
		})
	add(api, "GET", "/logs/{name}/templates/{number}/goes-with", "log-template-goes-with",
		"What a sentence goes with: sentences that rise and fall with it, runs in which it came, and alerts that lay over it",
		people.Reader,
		func(ctx context.Context, in *struct {
			OfTemplate
			Stretch
		}) (*body[logs.GoesWith], error) {
			from, to, err := in.span(s.Now(), 7*24*time.Hour)
			if err != nil {
				return nil, err
			}
			if to.Sub(from) > 31*24*time.Hour {
				return nil, record.Invalid{Field: "from", Given: from.Format(time.RFC3339), Allowed: "a stretch of 31 days at most"}
			}
			return ok(s.Logs.GoesWith(ctx, in.Name, in.Number, from, to))
		})
	add(api, "GET", "/logs/{name}/templates/{number}/lines", "log-template-lines",
		"The lines of a sentence, secrets masked, from the files that are followed, as far as they can still be read", people.Reader,
		func(ctx context.Context, in *struct {
			OfTemplate
			Stretch
			Limit int `query:"limit" minimum:"1" maximum:"1000" default:"50"`
		}) (*body[logs.FromFiles], error) {
			from, to, err := in.span(s.Now(), 24*time.Hour)
			if err != nil {
				return nil, err
			}
			return ok(s.Logs.Lines(ctx, in.Name, in.Number, from, to, in.Limit))
		})
	add(api, "POST", "/logs/{name}/templates/{number}/correct", "correct-log-template",
		"Correct how lines become sentences: join two, hold a word constant, have a part vary", people.Editor,
		func(ctx context.Context, in *struct {
			OfTemplate
			Body logs.Correction
		}) (*body[logs.Corrected], error) {
			in.Body.Author = account(ctx).Name
			return ok(s.Logs.Correct(ctx, in.Name, in.Number, in.Body))
		})
	add(api, "GET", "/logs/{name}/files", "log-files",
		"The files of a log that are followed, with how far they were counted", people.Reader,
		func(ctx context.Context, in *OfLog) (*body[[]record.LogFile], error) {
			log, err := s.Store.Log(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Store.LogFiles(ctx, log.ID))
		})
	add(api, "GET", "/logs/{name}/compare", "compare-log",
		"Hold a stretch of a log against another: which sentences are new, vanished, more or less frequent", people.Reader,
		func(ctx context.Context, in *struct {
			OfLog
			Stretch
			Against string    `query:"against" enum:"before,hour,day,week,month," default:"day" doc:"the same stretch so long before; before: the one right before it"`
			OtherAt time.Time `query:"against_from" doc:"another stretch: its start, instead"`
			OtherTo time.Time `query:"against_to" doc:"and its end"`
		}) (*body[logs.LogComparison], error) {
			from, to, err := in.span(s.Now(), time.Hour)
			if err != nil {
				return nil, err
			}
			against, until := in.OtherAt, in.OtherTo
			if against.IsZero() || until.IsZero() {
				switch in.Against {
				case "before":
					against, until = from.Add(-to.Sub(from)), from
				case "month":
					against, until = from.AddDate(0, -1, 0), to.AddDate(0, -1, 0)
				default:
					back := map[string]time.Duration{"hour": time.Hour, "week": 7 * 24 * time.Hour}[in.Against]
					if back == 0 {
						back = 24 * time.Hour
					}
					against, until = from.Add(-back), to.Add(-back)
				}
			}
			return ok(s.Logs.Compare(ctx, in.Name, from, to, against, until))
		})
	add(api, "PUT", "/logs/{name}", "add-log",
		"Make a log before its first line comes; one that is there stays as it is", people.Editor,
		func(ctx context.Context, in *struct {
			OfLog
			Body struct {
				Dataset string `json:"dataset,omitempty" doc:"whose loaders write it"`
				Job     string `json:"job,omitempty" doc:"that writes it; its dataset is the one that the job writes"`
				Service string `json:"service,omitempty" doc:"that writes it; it is watched as the dataset service.NAME"`
			}
		}) (*body[record.Log], error) {
			return ok(s.Logs.Add(ctx, in.Name, logs.Owner{Dataset: in.Body.Dataset, Job: in.Body.Job, Service: in.Body.Service}))
		})
	add(api, "PATCH", "/logs/{name}", "set-log",
		"Say what is told of a log, how many lines are kept, what is masked and counted apart, and where its files land; what is left out stays", people.Editor,
		func(ctx context.Context, in *struct {
			OfLog
			Body logs.LogSettings
		}) (*body[record.Log], error) {
			return ok(s.Logs.Set(ctx, in.Name, in.Body))
		})
	add(api, "PATCH", "/logs/{name}/templates/{number}", "set-log-template",
		"Say of a sentence that it is no news, or that its lines are to be a series of their own; what is left out stays", people.Editor,
		func(ctx context.Context, in *struct {
			OfTemplate
			Body struct {
				Usual    *bool `json:"usual,omitempty" doc:"it is no news"`
				Followed *bool `json:"followed,omitempty" doc:"its lines are the series 'sentence NUMBER' of the metric log-NAME-sentences"`
			}
		}) (*struct{}, error) {
			return nil, s.Logs.Say(ctx, in.Name, in.Number, in.Body.Usual, in.Body.Followed)
		})
	add(api, "DELETE", "/logs/{name}", "remove-log",
		"Remove a log with all that was counted of it; the samples of its metric stay", people.Editor,
		func(ctx context.Context, in *OfLog) (*struct{}, error) {
			return nil, s.Store.DropLog(ctx, in.Name)
		})
}

func (s *server) pushLogs(ctx context.Context, in *logInput) (logs.LogReceipt, error) {
	media, _, err := mime.ParseMediaType(in.Type)
	format := map[string]string{"application/x-ndjson": "json", "application/ndjson": "json", "text/plain": "text"}[media]
	if err != nil || format == "" {
		return logs.LogReceipt{}, huma.Error415UnsupportedMediaType("Content-Type " + in.Type +
			" is not taken: send text/plain or application/x-ndjson")
	}
	done, err := s.intake.enter(ctx)
	if err != nil {
		return logs.LogReceipt{}, err
	}
	defer done()
	reader, err := in.unzipped()
	if err != nil {
		return logs.LogReceipt{}, err
	}
	return s.Logs.Push(ctx, logs.Order{Log: in.Log, Owner: logs.Owner{Dataset: in.Dataset, Job: in.Job, Service: in.Service},
		JSON: format == "json", Source: in.Source, First: in.First}, reader)
}
