package httpapi

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"tinbell/core/timeline"
	"tinbell/internal/draw"
	"tinbell/internal/notify"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// NewChartLink asks for a standing address of a chart, which shows without signing in.
type NewChartLink struct {
	SpanSeconds int64            `json:"span_seconds,omitempty" minimum:"3600" maximum:"63072000" doc:"back from whenever it is looked at; a week if neither this nor from and to is given"`
	From        time.Time        `json:"from,omitempty" doc:"or between two instants"`
	To          time.Time        `json:"to,omitempty"`
	Fill        timeline.Filling `json:"fill,omitempty" enum:"none,zero,previous,linear,"`
	Days        int              `json:"days,omitempty" minimum:"1" maximum:"400" doc:"how long the address works; 30 if left out"`
}

// ChartLinked is the address of a chart.
type ChartLinked struct {
	PNG   string    `json:"png"`
	SVG   string    `json:"svg"`
	Until time.Time `json:"until" doc:"it works until then"`
}

func (s *server) addPictures(api huma.API) {
	add(api, "POST", "/series/{id}/link", "link-chart",
		"Make an address of a series' chart that another page can show: signed, and with an end", people.Editor,
		func(ctx context.Context, in *struct {
			ID   int64 `path:"id"`
			Body NewChartLink
		}) (*body[ChartLinked], error) {
			return ok(s.linkChart(ctx, in.ID, in.Body))
		})
}

func (s *server) linkChart(ctx context.Context, series int64, in NewChartLink) (v ChartLinked, err error) {
	if _, err := s.Store.SeriesByID(ctx, series); err != nil {
		return v, record.NotFound{Kind: "series", Name: fmt.Sprint(series)}
	}
	if in.Days == 0 {
		in.Days = 30
	}
	between := !in.From.IsZero() || !in.To.IsZero()
	switch {
	case between && in.SpanSeconds > 0:
		return v, record.Invalid{Field: "span_seconds", Given: fmt.Sprint(in.SpanSeconds), Allowed: "either this, or from and to"}
	case between && !in.From.Before(in.To):
		return v, record.Invalid{Field: "to", Given: in.To.Format(time.RFC3339), Allowed: "a time after from"}
	case !between && in.SpanSeconds == 0:
		in.SpanSeconds = 7 * 86400
	}
	now := s.Now().UTC()
	v.Until = now.AddDate(0, 0, in.Days)
	link := notify.ChartLink{Series: series, Seconds: in.SpanSeconds, Fill: string(in.Fill), Until: v.Until.Unix()}
	if between {
		link.From, link.To = in.From.Unix(), in.To.Unix()
	}
	token, err := s.Notifier.ChartToken(link)
	if err != nil {
		return v, err
	}
	at := s.Notifier.Address() + "/charts/" + token
	v.PNG, v.SVG = at+".png", at+".svg"
	return v, s.Store.AddAudit(ctx, record.Audit{At: now, Who: account(ctx).Name, What: "linked a chart",
		About: fmt.Sprintf("series %d", series), Note: "until " + v.Until.Format(time.RFC3339)})
}

// chartPicture draws the chart that a signed address shows.
func (s *server) chartPicture(w http.ResponseWriter, r *http.Request) {
	token, format := chi.URLParam(r, "token"), ""
	for _, ending := range []string{".png", ".svg"} {
		if rest, is := strings.CutSuffix(token, ending); is {
			token, format = rest, ending[1:]
		}
	}
	link, err := s.Notifier.ReadChartToken(token)
	switch {
	case errors.Is(err, notify.ErrLinkOver):
		writeProblem(w, http.StatusGone, "this address of a chart has ended: make another")
		return
	case err != nil || format == "":
		writeProblem(w, http.StatusForbidden, "no such address of a chart: it was not made here, or was changed")
		return
	}
	from, to := link.Span(s.Now())
	chart, err := s.Charts.Of(r.Context(), link.Series, from, to, timeline.Filling(link.Fill))
	if missing := (record.NotFound{}); errors.As(err, &missing) {
		writeProblem(w, http.StatusGone, "the series of this chart is gone")
		return
	}
	var picture bytes.Buffer
	if err == nil {
		title := strings.TrimSpace(chart.Dataset + ", " + chart.Metric)
		err = draw.Write(chart, title, format, &picture)
	}
	if err != nil {
		wrong := problem(r.Context(), err)
		writeProblem(w, statusOf(wrong), wrong.Error())
		return
	}
	w.Header().Set("Content-Type", map[string]string{"png": "image/png", "svg": "image/svg+xml"}[format])
	w.Header().Set("Cache-Control", "private, max-age=60")
	w.Header().Set("Cross-Origin-Resource-Policy", "cross-origin") // it is made to be shown elsewhere
	w.Write(picture.Bytes())
}
