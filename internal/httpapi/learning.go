package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/score"
	"tinbell/internal/flat"
	"tinbell/internal/lessons"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/replays"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// NewStretch gives a verdict on a stretch of a series where no alert was.
type NewStretch struct {
	SeriesID int64         `json:"series_id"`
	From     time.Time     `json:"from"`
	To       time.Time     `json:"to"`
	Verdict  score.Verdict `json:"verdict" enum:"fault,noise,planned"`
	Cause    string        `json:"cause,omitempty"`
	Note     string        `json:"note,omitempty"`
}

// LearningChange changes how the service learns; what is left out stays.
type LearningChange struct {
	State   *record.FilterState `json:"state,omitempty" enum:"off,shadow,active" doc:"of the filter: shadow says what it would hold back and holds nothing"`
	Limit   *float64            `json:"limit,omitempty" doc:"share of faults that may be lost"`
	Nightly *bool               `json:"nightly,omitempty" doc:"tuning runs by itself"`
}

// TuneOrder asks for better settings.
type TuneOrder struct {
	Monitors []string  `json:"monitors,omitempty" doc:"all if left out"`
	From     time.Time `json:"from,omitempty" doc:"sixteen weeks ago if left out"`
}

// Decision on a proposal.
type Decision struct {
	Accept bool   `json:"accept"`
	Note   string `json:"note,omitempty"`
}

// TrialOf is a trial with how far it is.
type TrialOf struct {
	Task  record.Task    `json:"task"`
	Trial *replays.Trial `json:"trial,omitempty" doc:"none until it is done"`
}

// TuningOf is a tuning with how far it is.
type TuningOf struct {
	Task   record.Task     `json:"task"`
	Tuning *replays.Tuning `json:"tuning,omitempty" doc:"none until it is done"`
}

// PastAnswer is a verdict on a stretch of several series at once.
type PastAnswer struct {
	Series  []int64       `json:"series" minItems:"1" maxItems:"1000"`
	From    time.Time     `json:"from"`
	To      time.Time     `json:"to"`
	Verdict score.Verdict `json:"verdict" enum:"fault,noise,planned"`
	Cause   string        `json:"cause,omitempty"`
	Note    string        `json:"note,omitempty"`
}

func (s *server) addLearning(api huma.API) {
	add(api, "GET", "/label-queue", "label-queue", "Alerts whose label would teach most, first", people.Reader,
		func(ctx context.Context, in *struct {
			Limit   int    `query:"limit" minimum:"1" maximum:"100" default:"20"`
			Monitor string `query:"monitor"`
		}) (*body[lessons.Questions], error) {
			if err := s.there(ctx, "", in.Monitor); err != nil {
				return nil, err
			}
			return ok(s.Lessons.Ask(ctx, in.Limit, in.Monitor))
		})
	add(api, "GET", "/monitors/{name}/questions", "past-questions",
		"Stretches of a monitor's past whose answers would move its limits most; answer by a verdict on the stretch",
		people.Reader, func(ctx context.Context, in *struct {
			Name  string `path:"name"`
			Limit int    `query:"limit" minimum:"1" maximum:"7" default:"5"`
		}) (*body[replays.PastQuestions], error) {
			return ok(s.Bench.AskPast(ctx, in.Name, in.Limit))
		})
	add(api, "POST", "/monitors/{name}/answers", "answer-past",
		"Answer a question about a monitor's past: a verdict on the stretch for all series that show it", people.Editor,
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body PastAnswer
		}) (*body[[]record.Stretch], error) {
			if _, err := s.Store.Monitor(ctx, in.Name); err != nil {
				return nil, err
			}
			v := in.Body
			return ok(s.Labels.AnswerPast(ctx, v.Series, record.Stretch{From: v.From.UTC(), To: v.To.UTC(), Verdict: v.Verdict,
				Cause: v.Cause, Note: v.Note, Author: account(ctx).Name}))
		})
	add(api, "GET", "/labels", "labels", "Every label that was given to a monitor's alert, oldest first", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]store.GivenLabel], error) {
			return ok(s.Store.AllLabels(ctx))
		})
	addFile(api, "POST", "/labels/import", "import-labels", "Import labels as CSV, NDJSON or a JSON array", "text/csv",
		func(ctx context.Context, in *Stream) (*body[flat.Import], error) {
			return ok(s.Labels.Import(ctx, in.reader, account(ctx).Name))
		})
	add(api, "GET", "/stretches", "stretches", "Verdicts on stretches where no alert was", people.Reader,
		func(ctx context.Context, in *struct {
			Series int64 `query:"series"`
		}) (*body[[]record.Stretch], error) {
			var of []int64
			if in.Series != 0 {
				of = []int64{in.Series}
			}
			return ok(s.Store.Stretches(ctx, of))
		})
	add(api, "POST", "/stretches", "label-stretch",
		"Give a verdict on a stretch of a chart: a fault becomes an incident nobody was told of", people.Responder,
		func(ctx context.Context, in *body[NewStretch]) (*body[record.Stretch], error) {
			v := in.Body
			return ok(s.Labels.LabelStretch(ctx, record.Stretch{SeriesID: v.SeriesID, From: v.From.UTC(), To: v.To.UTC(),
				Verdict: v.Verdict, Cause: v.Cause, Note: v.Note, Author: account(ctx).Name}))
		})
	add(api, "DELETE", "/stretches/{id}", "take-stretch-back", "Take a verdict on a stretch back, with the incident it became",
		people.Responder, func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*none, error) {
			return &none{}, s.Labels.TakeStretchBack(ctx, in.ID)
		})
	add(api, "GET", "/filter", "filter", "How the filter of false alarms does", people.Reader,
		func(ctx context.Context, _ *none) (*body[lessons.FilterReport], error) {
			return ok(s.Lessons.FilterReport(ctx))
		})
	add(api, "PATCH", "/filter", "change-filter",
		"Switch the filter off, to shadow or on; set its limit; let tuning run by night", people.Editor,
		func(ctx context.Context, in *body[LearningChange]) (*body[record.Learning], error) {
			how, err := s.Store.Learning(ctx)
			if err != nil {
				return nil, err
			}
			set(&how.State, in.Body.State)
			set(&how.Limit, in.Body.Limit)
			set(&how.Nightly, in.Body.Nightly)
			return ok(s.Setup.SetLearning(ctx, how.State, how.Limit, how.Nightly, account(ctx).Name))
		})
	add(api, "GET", "/alerts/{id}/held", "why-held",
		"What the filter makes of an alert: reasons, and the labelled alerts most like it", people.Reader,
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*body[lessons.Held], error) {
			return ok(s.Lessons.WhyHeld(ctx, in.ID))
		})
	s.addSearches(api)
	s.addVersions(api)
}

// addSearches are tunings and trials, which run in the background.
func (s *server) addSearches(api huma.API) {
	add(api, "POST", "/tunings", "tune",
		"Search for better settings in the background; nothing changes until a proposal is accepted", people.Editor,
		func(ctx context.Context, in *body[TuneOrder]) (*body[Started], error) {
			for _, name := range in.Body.Monitors {
				if _, err := s.Store.Monitor(ctx, name); err != nil {
					return nil, err
				}
			}
			subject := "all monitors"
			if len(in.Body.Monitors) > 0 {
				subject = strings.Join(in.Body.Monitors, ", ")
			}
			task, err := s.Store.AddTask(ctx, "tune", subject)
			if err != nil {
				return nil, err
			}
			return ok(Started{task}, s.Queue.Add(ctx, work.Tune{TaskID: task, Monitors: in.Body.Monitors, From: in.Body.From}))
		})
	add(api, "GET", "/tunings/{id}", "tuning", "What a tuning came to", people.Reader, func(ctx context.Context, in *struct {
		ID int64 `path:"id"`
	}) (*body[TuningOf], error) {
		task, found, err := result[replays.Tuning](ctx, s, in.ID, "tune")
		return ok(TuningOf{task, found}, err)
	})
	add(api, "POST", "/trials", "try", "Replay monitors under other settings beside their own, in the background", people.Reader,
		func(ctx context.Context, in *body[BacktestOrder]) (*body[Started], error) {
			o := in.Body
			if o.Nothing() {
				return nil, record.Invalid{Field: "settings", Given: "",
					Allowed: "the settings to try, or what to change of each monitor's own"}
			}
			if o.To.IsZero() {
				o.To = s.Now()
			}
			if !o.From.Before(o.To) {
				return nil, record.Invalid{Field: "from", Given: o.From.Format(time.RFC3339), Allowed: "a time before the end, " +
					o.To.Format(time.RFC3339)}
			}
			all, err := s.Store.Monitors(ctx)
			if err != nil {
				return nil, err
			}
			if len(o.Monitors) == 0 {
				for _, m := range all {
					if m.Settings.Method != record.MethodArrival {
						o.Monitors = append(o.Monitors, m.Name)
					}
				}
			}
			for _, name := range o.Monitors {
				m, err := s.Store.Monitor(ctx, name)
				if err != nil {
					return nil, err
				}
				if err := s.checkTried(ctx, m, o.Tried); err != nil {
					return nil, err
				}
			}
			tried, err := json.Marshal(o.Tried)
			if err != nil {
				return nil, err
			}
			task, err := s.Store.AddTask(ctx, "trial", strings.Join(o.Monitors, ", "))
			if err != nil {
				return nil, err
			}
			return ok(Started{task}, s.Queue.Add(ctx, work.Trial{TaskID: task, Monitors: o.Monitors, From: o.From, To: o.To, Tried: tried}))
		})
	add(api, "GET", "/trials/{id}", "trial", "What a trial came to", people.Reader, func(ctx context.Context, in *struct {
		ID int64 `path:"id"`
	}) (*body[TrialOf], error) {
		task, found, err := result[replays.Trial](ctx, s, in.ID, "trial")
		return ok(TrialOf{task, found}, err)
	})
	add(api, "GET", "/proposals", "proposals", "Settings that tuning proposes, newest first", people.Reader,
		func(ctx context.Context, in *struct {
			State string `query:"state" enum:"open,accepted,rejected,outdated,all" default:"open"`
		}) (*body[[]record.Proposal], error) {
			return ok(s.Store.Proposals(ctx, record.ProposalState(strings.TrimPrefix(in.State, "all"))))
		})
	add(api, "POST", "/proposals/{id}", "decide", "Accept or reject a proposal; accepted, it is the monitor's next version",
		people.Editor, func(ctx context.Context, in *struct {
			ID   int64 `path:"id"`
			Body Decision
		}) (*body[record.Proposal], error) {
			return ok(s.Setup.Decide(ctx, in.ID, in.Body.Accept, account(ctx).Name, in.Body.Note))
		})
}

// result reads what long work came to.
func result[T any](ctx context.Context, s *server, id int64, what string) (record.Task, *T, error) {
	task, err := s.Store.Task(ctx, id)
	if err != nil {
		return task, nil, err
	}
	if task.What != what {
		return task, nil, record.NotFound{Kind: what, Name: fmt.Sprint(id)}
	}
	if task.Result == nil {
		return task, nil, nil
	}
	found := new(T)
	return task, found, json.Unmarshal([]byte(*task.Result), found)
}

func (s *server) addVersions(api huma.API) {
	add(api, "GET", "/monitors/{name}/versions", "monitor-versions", "What a monitor was set to, newest first", people.Reader,
		func(ctx context.Context, in *Named) (*body[[]record.MonitorVersion], error) {
			m, err := s.Store.Monitor(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Store.MonitorVersions(ctx, m.ID))
		})
	add(api, "POST", "/monitors/{name}/take-back", "take-back", "Make an earlier version the newest again", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				Version int `json:"version"`
			}
		}) (*body[record.Monitor], error) {
			return ok(s.Setup.TakeBack(ctx, in.Name, in.Body.Version, account(ctx).Name))
		})
	add(api, "PUT", "/monitors/{name}/always-tell", "always-tell", "Say whether the filter may hold a monitor's alerts back",
		people.Editor, func(ctx context.Context, in *struct {
			Named
			Body struct {
				Always bool `json:"always"`
			}
		}) (*body[record.Monitor], error) {
			m, err := s.Store.Monitor(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			if err := s.Store.SetAlwaysTell(ctx, m.ID, in.Body.Always); err != nil {
				return nil, err
			}
			return ok(s.Store.Monitor(ctx, in.Name))
		})
}
