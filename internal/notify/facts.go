package notify

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/draw"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

// Facts are what a message says. Times are in the dataset's zone, as people read
// them; templates reach every one of them by its name.
type Facts struct {
	Key      string `json:"key"`       // of the message: the same in every attempt
	What     string `json:"what"`      // opened, changed, again, reminder, escalated, recovered, summary, test
	Title    string `json:"title"`     // what is new and what is wrong, in one line
	Sentence string `json:"sentence"`  // what is wrong
	News     string `json:"news"`      // why this is told now
	Severity string `json:"severity"`  // warning or critical
	State    string `json:"state"`     // open or over
	Group    string `json:"group"`     // its number
	Since    string `json:"since"`     // start of the first deviating period
	SinceUTC string `json:"since_utc"` // the same as RFC 3339
	Over     string `json:"over"`      // when it was over; empty while it lasts
	Lasted   string `json:"lasted"`    // until now, or until it was over
	Zone     string `json:"zone"`
	Dataset  string `json:"dataset"`
	Segment  string `json:"segment"`
	Monitor  string `json:"monitor"`
	Owner    string `json:"owner"`
	Observed string `json:"observed"` // with its unit
	Expected string `json:"expected"`
	HowRare  string `json:"how_rare"` // about once in 41 days
	Origin   string `json:"origin"`   // where it likely began
	TakenBy  string `json:"taken_by"` // who looks after it
	Figures  string `json:"figures"`  // what came and what was expected where it rang, and at worst
	Why      string `json:"why"`      // what is behind it, where that is clear

	Alerts []FactAlert `json:"alerts"` // all of the group, up to twenty
	More   string      `json:"more"`   // and 3 more
	Alike  []FactAlike `json:"alike"`  // earlier alerts like it
	Links  Links       `json:"links"`
	Told   []FactTold  `json:"told"` // of a summary: what it stands for

	at      time.Time
	picture []byte
}

// FactAlert is one alert of the group.
type FactAlert struct {
	Sentence string `json:"sentence"`
	Severity string `json:"severity"`
	Since    string `json:"since"`
	State    string `json:"state"`
	Link     string `json:"link"`
}

// FactAlike is an earlier alert like it and what people said of it.
type FactAlike struct {
	Sentence string `json:"sentence"`
	Raised   string `json:"raised"`
	Label    string `json:"label"` // fault, noise, planned, or unlabelled
	Cause    string `json:"cause"`
}

// FactTold is a message that a summary stands for.
type FactTold struct {
	Title string `json:"title"`
	At    string `json:"at"`
	Link  string `json:"link"`
}

// Links lead to the service. Those that answer work without signing in, for this
// alert alone, for a fortnight.
type Links struct {
	Alert   string `json:"alert"`
	Group   string `json:"group"`
	Fault   string `json:"fault"`
	Noise   string `json:"noise"`
	Planned string `json:"planned"`
	Take    string `json:"take"`
	Picture string `json:"picture"` // PNG of the series; empty where there is none
}

const shownAlerts = 20

// facts puts together what a message says, as things stand now.
func (n *Notifier) facts(ctx context.Context, c record.Channel, m record.Message) (Facts, error) {
	f := Facts{Key: m.ID, What: string(m.What), Severity: "warning", State: "open", Alerts: []FactAlert{}, Alike: []FactAlike{},
		Told: []FactTold{}, Zone: "UTC", at: m.CreatedAt}
	switch {
	case m.What == record.ToldTest:
		return n.testFacts(f, c), nil
	case m.What == record.ToldSummary:
		return n.summaryFacts(ctx, f, m)
	case m.GroupID == nil:
		return f, moot{"its group is gone"}
	}
	g, err := n.store.Group(ctx, *m.GroupID)
	if into, e := n.store.MergedInto(ctx, *m.GroupID); e == nil && into != 0 {
		f.News = fmt.Sprintf("Group %d turned out to be part of this one, group %d.", *m.GroupID, into)
		g, err = n.store.Group(ctx, into)
	}
	if err != nil {
		return f, err
	}
	members, err := n.store.Alerts(ctx, store.AlertFilter{Group: g.ID, Limit: 500})
	if err != nil {
		return f, err
	}
	if m.What == record.ToldReminder || m.What == record.ToldEscalated {
		if g.ClosedAt != nil || g.TakenBy != "" || g.Answered > 0 {
			return f, moot{"answered or over by then"}
		}
	}
	var lead record.Alert
	for i := len(members) - 1; i >= 0; i-- { // oldest first
		if members[i].ID == g.Lead {
			lead = members[i]
		}
	}
	if lead.ID == 0 {
		return f, moot{"its alerts are gone"}
	}
	n.describe(ctx, &f, c, g, lead, members)
	f.News = strings.TrimSpace(news(m.What, g, f) + m.Why + " " + f.News)
	f.Title = title(m.What, f)
	if err := n.alike(ctx, &f, lead); err != nil {
		return f, err
	}
	if n.options.Why != nil && m.What == record.ToldOpened && lead.Judged() {
		f.Why = n.options.Why(ctx, lead.ID)
	}
	if lead.Judged() && c.Kind == record.ChannelEmail { // webhooks carry none
		f.picture = n.Picture(ctx, lead)
	}
	return f, nil
}

// ledBy is what a message of news begins with.
var ledBy = map[record.Told]string{record.ToldReminder: "Still open: ", record.ToldEscalated: "Nobody looks after this: ",
	record.ToldRecovered: "Over: ",
	record.ToldAgain:     "Back again: ", record.ToldChanged: "Changed: "}

// title is a message's one line: what is new, then what is wrong.
func title(what record.Told, f Facts) string {
	lead := ledBy[what]
	if lead == "" {
		lead = capital(f.Severity) + ": "
		if f.State == "over" {
			lead = "Already over: "
		}
	}
	text := lead + f.Sentence
	if n := len(f.Alerts); n > 1 && f.More == "" {
		text += fmt.Sprintf(" (and %d more)", n-1)
	} else if f.More != "" {
		text += " (and many more)"
	}
	return text
}

func capital(word string) string { return strings.ToUpper(word[:1]) + word[1:] }

// news says why a message is sent.
func news(what record.Told, g store.GroupRow, f Facts) string {
	switch what {
	case record.ToldReminder:
		return "It has lasted " + f.Lasted + ", and nobody has answered or said that they look after it."
	case record.ToldEscalated:
		return "It was told " + f.Lasted + " after it began, and nobody has answered or said that they look after it."
	case record.ToldRecovered:
		return "Everything about it has recovered; it lasted " + f.Lasted + "."
	case record.ToldAgain:
		return "It was over and has come back."
	}
	return ""
}

func (n *Notifier) describe(ctx context.Context, f *Facts, c record.Channel, g store.GroupRow, lead record.Alert, members []record.Alert) {
	zone, err := time.LoadLocation(lead.Zone)
	if err != nil {
		zone = time.UTC
	}
	wall := func(at time.Time) string { return at.In(zone).Format("Mon 2 Jan 15:04") }
	f.Sentence, f.Severity, f.Group, f.Zone = lead.Sentence, string(g.Severity), strconv.FormatInt(g.ID, 10), lead.Zone
	f.Since, f.SinceUTC = wall(g.BeganAt), g.BeganAt.UTC().Format(time.RFC3339)
	end := n.now()
	if g.ClosedAt != nil {
		end, f.State, f.Over = *g.ClosedAt, "over", wall(*g.ClosedAt)
	}
	f.Lasted = words.Seconds(end.Sub(g.BeganAt).Seconds())
	f.Dataset, f.Segment, f.Monitor, f.Owner, f.TakenBy = lead.Dataset, lead.Segment, lead.Monitor, lead.Owner, g.TakenBy
	if lead.Judged() {
		f.Observed, f.Expected = amounts(lead)
		f.Figures = lead.Figures
	}
	if lead.ReturnPeriod > 0 {
		f.HowRare = words.Rare(lead.ReturnPeriod)
	}
	if g.Place != "" && (len(members) > 1 || g.Place != f.Dataset) {
		f.Origin = g.Place
		if g.OriginAlert == nil {
			f.Origin += ", which has no alert itself"
		}
	}
	for i := len(members) - 1; i >= 0; i-- {
		a := members[i]
		if len(f.Alerts) == shownAlerts {
			f.More = fmt.Sprintf("and %d more", len(members)-shownAlerts)
			break
		}
		state := "open"
		if a.ClosedAt != nil {
			state = "over"
		}
		f.Alerts = append(f.Alerts, FactAlert{a.Sentence, string(a.Severity), wall(a.Since), state, n.link("/alerts/%d", a.ID)})
	}
	f.Links = n.links(c, g.ID, lead.ID)
	if !lead.Judged() {
		f.Links.Picture = ""
	}
}

func (n *Notifier) links(c record.Channel, group, alert int64) Links {
	answer := n.options.Address + "/answer/" + n.AnswerToken(alert, c.Name, n.now().Add(linkLife))
	return Links{Alert: n.link("/alerts/%d", alert), Group: n.link("/groups/%d", group),
		Fault: answer + "?as=fault", Noise: answer + "?as=noise", Planned: answer + "?as=planned", Take: answer + "?as=take",
		Picture: answer + "/chart.png"}
}

func (n *Notifier) link(format string, id int64) string {
	return n.options.Address + fmt.Sprintf(format, id)
}

// amounts says what was observed and expected with their unit.
func amounts(a record.Alert) (observed, expected string) {
	unit := a.Unit
	if unit == "" {
		unit = strings.ReplaceAll(a.Measure, "_", " ")
	}
	say := func(v float64) string { return words.Number(v) + " " + unit }
	switch {
	case strings.HasSuffix(a.Measure, "share"):
		say = func(v float64) string { return words.Percent(v) + " " + unit }
	case a.Measure == record.MeasureFreshness:
		say = func(v float64) string { return words.Seconds(v) }
	}
	return say(a.Observed), say(a.Expected)
}

func (n *Notifier) alike(ctx context.Context, f *Facts, lead record.Alert) error {
	list, err := n.charts.Alike(ctx, lead)
	if err != nil {
		return err
	}
	zone, err := time.LoadLocation(lead.Zone)
	if err != nil {
		zone = time.UTC
	}
	for _, a := range list[:min(len(list), 3)] {
		one := FactAlike{a.Sentence, a.RaisedAt.In(zone).Format("2 Jan 15:04"), string(a.Verdict), ""}
		if one.Label == "" {
			one.Label = "unlabelled"
		} else if labels, err := n.store.Labels(ctx, a.ID); err == nil && len(labels) > 0 {
			one.Cause = labels[0].Cause
		}
		f.Alike = append(f.Alike, one)
	}
	return nil
}

// Picture draws the series around an alert; nil if it cannot: a message does as
// well without.
func (n *Notifier) Picture(ctx context.Context, a record.Alert) []byte {
	from, to := chart.Around(a, n.now())
	drawn, err := n.charts.Of(ctx, a.SeriesID, from, to, timeline.FillNone)
	if err != nil {
		return nil
	}
	var png bytes.Buffer
	if err := draw.Write(drawn, "", "png", &png); err != nil {
		return nil
	}
	return png.Bytes()
}

func (n *Notifier) testFacts(f Facts, c record.Channel) Facts {
	f.Title, f.Sentence = "Test: this channel can be reached", "This is a test of the channel "+c.Name
	f.News = "Nothing is wrong. A message about an alert says here what is wrong, since when and how rare that is."
	f.Severity, f.Group, f.Since, f.SinceUTC = "warning", "0", f.at.UTC().Format("Mon 2 Jan 15:04"), f.at.UTC().Format(time.RFC3339)
	f.Links = Links{Alert: n.options.Address, Group: n.options.Address}
	return f
}

func (n *Notifier) summaryFacts(ctx context.Context, f Facts, m record.Message) (Facts, error) {
	list, err := n.store.Summed(ctx, m.ID)
	if err != nil {
		return f, err
	}
	groups := map[int64]bool{}
	for _, one := range list {
		if one.GroupID == nil {
			continue
		}
		g, err := n.store.Group(ctx, *one.GroupID)
		if err != nil {
			continue
		}
		groups[g.ID] = true
		if g.Severity == "critical" {
			f.Severity = "critical"
		}
		lead := ledBy[one.What]
		if lead == "" {
			lead = capital(string(g.Severity)) + ": "
		}
		if len(f.Told) < 100 {
			f.Told = append(f.Told, FactTold{lead + g.Sentence, one.CreatedAt.UTC().Format("15:04") + " UTC", n.link("/groups/%d", g.ID)})
		} else {
			f.More = fmt.Sprintf("and %d more", len(list)-100)
		}
	}
	f.Group, f.Since, f.SinceUTC = "0", f.at.UTC().Format("Mon 2 Jan 15:04"), f.at.UTC().Format(time.RFC3339)
	f.Sentence = fmt.Sprintf("%d messages about %d groups came at once", len(list), len(groups))
	f.Title = "Summary: " + f.Sentence
	f.News = "The channel's limit was reached; nothing is left out."
	f.Links = Links{Alert: n.options.Address + "/alerts", Group: n.options.Address}
	return f, nil
}
