package httpapi

import (
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tinbell/core/score"
	"tinbell/internal/notify"
	"tinbell/internal/record"
)

//go:embed answer.html
var answerHTML string

var answerTemplate = template.Must(template.New("answer").Parse(answerHTML))

// answering is what the page behind a message's links shows.
type answering struct {
	Alert  record.Alert
	Since  string
	As     string // what the link asks for
	Was    string // the label in force
	Done   string
	Wrong  string
	Link   string
	Answer []verdict
}

type verdict struct{ As, Says, Style string }

var verdicts = []verdict{
	{string(record.Fault), "It is a fault", "fault"}, {string(record.Noise), "It is noise", "noise"}, {string(record.Planned), "It is planned",
		"planned"}, {"take", "I look after it", "take"},
}

// answerPage shows what a link would answer, with a button for it. It changes
// nothing: mail scanners follow every link.
func (s *server) answerPage(w http.ResponseWriter, r *http.Request) {
	page, _, ok := s.answering(w, r)
	if !ok {
		return
	}
	page.As = r.URL.Query().Get("as")
	showAnswer(w, http.StatusOK, page)
}

// answered takes the answer that was confirmed.
func (s *server) answered(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	page, channel, ok := s.answering(w, r)
	if !ok {
		return
	}
	page.As = r.PostFormValue("as")
	who := strings.TrimSpace(r.PostFormValue("name"))
	if len(who) > 80 {
		who = who[:80]
	}
	if who == "" {
		who = "somebody"
	}
	who += " (by a link to " + channel + ")"
	var err error
	switch page.As {
	case string(record.Fault), string(record.Noise), string(record.Planned):
		err = s.Labels.Label(r.Context(), []int64{page.Alert.ID}, record.Label{Verdict: score.Verdict(page.As),
			Note: strings.TrimSpace(r.PostFormValue("note")), Author: who}, nil)
		page.Done, page.Was = "The alert is labelled "+page.As+".", page.As
	case "take":
		if page.Alert.GroupID == nil {
			err = record.NotFound{Kind: "group of alert", Name: fmt.Sprint(page.Alert.ID)}
		} else {
			err = s.Store.TakeGroup(r.Context(), *page.Alert.GroupID, who, s.Now().UTC())
		}
		page.Done = "You look after it: nobody is reminded any more."
	default:
		err = record.Invalid{Field: "as", Given: page.As, Allowed: "fault, noise, planned or take"}
	}
	if err != nil {
		page.Wrong, page.Done = "It was not kept: "+err.Error(), ""
		showAnswer(w, http.StatusUnprocessableEntity, page)
		return
	}
	showAnswer(w, http.StatusOK, page)
}

// answerPicture gives the picture of the alert that a link answers.
func (s *server) answerPicture(w http.ResponseWriter, r *http.Request) {
	page, _, ok := s.answering(w, r)
	if !ok {
		return
	}
	png := s.Notifier.Picture(r.Context(), page.Alert)
	if png == nil {
		http.Error(w, "there is no picture of this alert", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	w.Header().Set("Cache-Control", "private, max-age=300")
	w.Write(png)
}

// answering reads the link and the alert that it answers.
func (s *server) answering(w http.ResponseWriter, r *http.Request) (answering, string, bool) {
	alert, channel, err := s.Notifier.ReadAnswerToken(chi.URLParam(r, "token"))
	if err != nil {
		status := http.StatusForbidden
		if errors.Is(err, notify.ErrLinkOver) {
			status = http.StatusGone
		}
		showAnswer(w, status, answering{Wrong: strings.ToUpper(err.Error()[:1]) + err.Error()[1:] + "."})
		return answering{}, "", false
	}
	a, err := s.Store.Alert(r.Context(), alert)
	if err != nil {
		showAnswer(w, http.StatusNotFound, answering{Wrong: "The alert is gone."})
		return answering{}, "", false
	}
	since := a.Since
	if zone, err := time.LoadLocation(a.Zone); err == nil {
		since = since.In(zone)
	}
	return answering{Alert: a, Since: since.Format("Mon 2 Jan 15:04") + " (" + a.Zone + ")", Was: string(a.Verdict),
		Link: fmt.Sprintf("/alerts/%d", a.ID), Answer: verdicts}, channel, true
}

func showAnswer(w http.ResponseWriter, status int, page answering) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Robots-Tag", "noindex")
	w.Header().Set("Referrer-Policy", "no-referrer")
	w.WriteHeader(status)
	answerTemplate.Execute(w, page)
}
