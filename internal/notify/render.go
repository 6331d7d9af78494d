package notify

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	html "html/template"
	text "text/template"
	"time"

	"tinbell/internal/record"
)

//go:embed mail.html
var mailHTML string

//go:embed mail.txt
var mailText string

var (
	htmlMail = html.Must(html.New("mail").Parse(mailHTML))
	textMail = text.Must(text.New("mail").Parse(mailText))
)

// render makes of the facts what a channel sends.
func render(c record.Channel, f Facts) (Body, error) {
	if c.Kind == record.ChannelEmail {
		return renderMail(f)
	}
	b := Body{Type: "application/json"}
	var payload any
	switch c.Settings.Form {
	case FormChat:
		payload = map[string]string{"text": chatText(f)}
	case FormTicket:
		var description bytes.Buffer
		if err := textMail.Execute(&description, f); err != nil {
			return b, err
		}
		payload = map[string]any{"title": f.Title, "description": description.String(), "severity": f.Severity, "state": f.State,
			"reference": "tinbell-group-" + f.Group, "labels": []string{"tinbell", f.Severity}, "url": f.Links.Group}
	case FormOwn:
		if c.Settings.Type != "" {
			b.Type = c.Settings.Type
		}
		var err error
		b.Payload, err = fill(c.Settings.Template, f)
		return b, err
	default:
		b.Type = "application/cloudevents+json"
		payload = cloudEvent(f)
	}
	raw, err := json.Marshal(payload)
	b.Payload = string(raw)
	return b, err
}

func renderMail(f Facts) (Body, error) {
	var plain, rich bytes.Buffer
	if err := textMail.Execute(&plain, f); err != nil {
		return Body{}, err
	}
	err := htmlMail.Execute(&rich, struct {
		Facts
		HasPicture bool
	}{f, f.picture != nil})
	return Body{Text: plain.String(), HTML: rich.String(), Picture: f.picture, Thread: "group-" + f.Group}, err
}

// event is a CloudEvent 1.0 in its JSON form.
type event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        Facts     `json:"data"`
}

func cloudEvent(f Facts) event {
	return event{SpecVersion: "1.0", ID: f.Key, Source: "/tinbell", Type: "tinbell.group." + f.What, Subject: "groups/" + f.Group,
		Time: f.at.UTC(), ContentType: "application/json", Data: f}
}

func chatText(f Facts) string {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\n", f.Title)
	if f.News != "" {
		fmt.Fprintf(&b, "%s\n", f.News)
	}
	for _, told := range f.Told {
		fmt.Fprintf(&b, "- %s, %s\n", told.Title, told.Link)
	}
	if f.Dataset != "" {
		fmt.Fprintf(&b, "Since %s %s", f.Since, f.Zone)
		if f.Figures != "" {
			fmt.Fprintf(&b, "; %s", f.Figures)
		} else if f.Observed != "" {
			fmt.Fprintf(&b, "; %s, expected %s", f.Observed, f.Expected)
		}
		if f.HowRare != "" {
			fmt.Fprintf(&b, "; %s", f.HowRare)
		}
		b.WriteString("\n")
	}
	if f.Origin != "" {
		fmt.Fprintf(&b, "Likely origin: %s\n", f.Origin)
	}
	if f.Why != "" {
		fmt.Fprintf(&b, "Why: %s\n", f.Why)
	}
	fmt.Fprintf(&b, "%s", f.Links.Group)
	if f.Links.Picture != "" {
		fmt.Fprintf(&b, "\n%s", f.Links.Picture)
	}
	if f.Links.Fault != "" {
		fmt.Fprintf(&b, "\nfault: %s\nnoise: %s\nplanned: %s", f.Links.Fault, f.Links.Noise, f.Links.Planned)
	}
	return b.String()
}
