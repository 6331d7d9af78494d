package config

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/core/timeline"
	"tinbell/internal/notify"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/watch"
)

// WrittenChannel is where messages go, with its settings beside its name. The
// password of a login and a signing secret are in no file: ${NAME} stands for
// the variable of that name where the files are loaded.
type WrittenChannel struct {
	Name    string             `json:"name"`
	Through record.ChannelKind `json:"through" enum:"email,webhook"`
	record.ChannelSettings
	Address     string         `json:"address,omitempty" secret:"true" doc:"of a webhook, where url does not show all of it"`
	Password    string         `json:"password,omitempty" secret:"true"`
	Headers     record.Strings `json:"headers,omitempty" secret:"true" doc:"of a webhook, as 'Authorization: ${NAME}'"`
	HourlyLimit int            `json:"hourly_limit,omitempty"`
	Paused      bool           `json:"paused,omitempty"`
}

// headers reads the headers of a webhook; none if the value of one is not known here,
// for then those it has stay.
func (w WrittenChannel) headers() (map[string]string, error) {
	if len(w.Headers) == 0 {
		return nil, nil
	}
	headers := map[string]string{}
	for _, line := range w.Headers {
		name, value, ok := strings.Cut(line, ":")
		if value = strings.TrimSpace(value); !ok {
			return nil, record.Invalid{Field: "headers", Given: name, Allowed: "lines such as 'Authorization: ${NAME}'"}
		}
		if value == "" || strings.Contains(value, "${") {
			return nil, nil
		}
		headers[name] = value
	}
	return headers, nil
}

// WrittenRoute says which groups a channel hears of.
type WrittenRoute struct {
	Name            string          `json:"name"`
	Channel         string          `json:"channel"`
	Datasets        record.Strings  `json:"datasets,omitempty"`
	Owners          record.Strings  `json:"owners,omitempty"`
	Tags            record.Strings  `json:"tags,omitempty"`
	Severity        detect.Severity `json:"severity,omitempty" enum:"warning,critical"`
	Hours           record.Strings  `json:"hours,omitempty"`
	Zone            string          `json:"zone,omitempty"`
	WaitSeconds     *int64          `json:"wait_seconds,omitempty"`
	RemindSeconds   int64           `json:"remind_seconds,omitempty"`
	EscalateSeconds int64           `json:"escalate_seconds,omitempty"`
	EscalateTo      string          `json:"escalate_to,omitempty"`
	NoRecovery      bool            `json:"no_recovery,omitempty"`
}

// WrittenSLA is a promise of at least so much between two times of the day.
type WrittenSLA struct {
	Name        string         `json:"name"`
	Dataset     string         `json:"dataset"`
	Owner       string         `json:"owner,omitempty"`
	Counts      string         `json:"counts" enum:"rows,loads,files"`
	AtLeast     float64        `json:"at_least"`
	Days        string         `json:"days,omitempty"`
	From        string         `json:"from,omitempty"`
	By          string         `json:"by"`
	Zone        string         `json:"zone,omitempty"`
	Segment     string         `json:"segment,omitempty"`
	LeadSeconds int64          `json:"lead_seconds,omitempty"`
	Calendars   record.Strings `json:"calendars,omitempty"`
	Paused      bool           `json:"paused,omitempty"`
}

func writtenChannel(v record.Channel) WrittenChannel {
	w := WrittenChannel{Name: v.Name, Through: v.Kind, ChannelSettings: v.Settings, HourlyLimit: v.HourlyLimit, Paused: v.Paused}
	if v.Secret != nil {
		w.Password = "${" + Variable(v.Name) + "}"
	}
	if v.Address != nil {
		w.Address = "${" + variable(v.Name, "address") + "}"
	}
	for _, name := range v.HeaderNames {
		w.Headers = append(w.Headers, name+": ${"+variable(v.Name, name)+"}")
	}
	return w
}

func (w WrittenChannel) record() record.Channel {
	if w.whole() {
		w.ChannelSettings.URL = w.Address
	}
	return record.Channel{Name: w.Name, Kind: w.Through, Settings: w.ChannelSettings, HourlyLimit: w.HourlyLimit, Paused: w.Paused}
}

// whole tells whether the whole address of a webhook is known here.
func (w WrittenChannel) whole() bool { return w.Address != "" && !strings.HasPrefix(w.Address, "${") }

func writtenRoute(v record.Route) WrittenRoute {
	var wait *int64
	if v.WaitSeconds != setup.UsualWait {
		wait = &v.WaitSeconds
	}
	return WrittenRoute{v.Name, v.Channel, v.Datasets, v.Owners, v.Tags, v.Severity, v.Hours, v.Zone, wait, v.RemindSeconds,
		v.EscalateSeconds, v.EscalateTo, !v.Recovery}
}

func (w WrittenRoute) record() record.Route {
	wait := int64(setup.UsualWait)
	if w.WaitSeconds != nil {
		wait = *w.WaitSeconds
	}
	return record.Route{Name: w.Name, Channel: w.Channel, Datasets: w.Datasets, Owners: w.Owners, Tags: w.Tags,
		Severity: w.Severity, Hours: w.Hours, Zone: w.Zone,
		WaitSeconds: wait, RemindSeconds: w.RemindSeconds, EscalateSeconds: w.EscalateSeconds, EscalateTo: w.EscalateTo,
		Recovery: !w.NoRecovery}
}

func writtenSLA(v record.SLA) WrittenSLA {
	w := WrittenSLA{Name: v.Name, Dataset: v.Dataset, Owner: v.Owner, Counts: v.Counts, AtLeast: v.AtLeast, Days: v.Days,
		By: Clock(v.ToMinute), Zone: v.Zone,
		Segment: v.Segment, LeadSeconds: v.LeadSeconds, Calendars: v.Calendars, Paused: v.Paused}
	if v.FromMinute != 0 {
		w.From = Clock(v.FromMinute)
	}
	return w
}

func (w WrittenSLA) record() (record.SLA, error) {
	v := record.SLA{Name: w.Name, Dataset: w.Dataset, Owner: w.Owner, Counts: w.Counts, AtLeast: w.AtLeast, Days: w.Days, Zone: w.Zone,
		Segment: w.Segment, LeadSeconds: w.LeadSeconds, Calendars: w.Calendars, Paused: w.Paused}
	var err error
	v.FromMinute, v.ToMinute, err = Window(w.From, w.By)
	return v, err
}

// Window reads the times of the day that a promise lies between; without a first
// it begins at midnight, and one that ends no later than it begins ends on the
// next day.
func Window(from, by string) (int, int, error) {
	if from == "" {
		from = "00:00"
	}
	a, err := timeline.ParseMinute(from)
	if err != nil {
		return 0, 0, record.Invalid{Field: "from", Given: from, Allowed: err.Error()}
	}
	b, err := timeline.ParseMinute(by)
	if err != nil {
		return 0, 0, record.Invalid{Field: "by", Given: by, Allowed: err.Error()}
	}
	if b <= a {
		b += 24 * 60
	}
	return a, b, nil
}

// Clock writes a minute of the day, or of the one after it, as Window reads it.
func Clock(minute int) string {
	if minute == 24*60 {
		return "24:00"
	}
	return fmt.Sprintf("%02d:%02d", minute/60%24, minute%60)
}

// readTelling adds what is set up of channels, routes and promises.
func (k *Keeper) readTelling(ctx context.Context, d *Documents) error {
	channels, err := k.store.Channels(ctx)
	if err != nil {
		return err
	}
	for _, v := range channels {
		d.Channels = append(d.Channels, writtenChannel(v))
	}
	routes, err := k.store.Routes(ctx)
	if err != nil {
		return err
	}
	for _, v := range routes {
		d.Routes = append(d.Routes, writtenRoute(v))
	}
	slas, err := k.store.SLAs(ctx)
	for _, v := range slas {
		d.SLAs = append(d.SLAs, writtenSLA(v))
	}
	return err
}

// checkTelling refuses channels, routes and promises that cannot work.
func (l *load) checkTelling(ctx context.Context, wanted Documents) error {
	channels := map[string]bool{}
	for _, w := range wanted.Channels {
		v := w.record()
		err := l.notifier.CheckChannel(&v)
		if err == nil {
			_, err = w.headers()
		}
		if err != nil {
			return fmt.Errorf("channel %s: %w", w.Name, err)
		}
		channels[w.Name] = true
	}
	for _, w := range wanted.Routes {
		v := w.record()
		if err := setup.CheckRoute(&v); err != nil {
			return fmt.Errorf("route %s: %w", w.Name, err)
		}
		for _, name := range []string{v.Channel, v.EscalateTo} {
			if _, err := l.store.Channel(ctx, name); name != "" && !channels[name] && err != nil {
				return fmt.Errorf("route %s: %w", w.Name, err)
			}
		}
	}
	for _, w := range wanted.SLAs {
		v, err := w.record()
		if err != nil {
			return fmt.Errorf("sla %s: %w", w.Name, err)
		}
		d, known := l.datasets[v.Dataset]
		if !known {
			if d, err = l.store.Dataset(ctx, v.Dataset); err != nil {
				return fmt.Errorf("sla %s: %w", w.Name, err)
			}
		}
		if err := watch.CheckSLA(&v, d); err != nil {
			return fmt.Errorf("sla %s: %w", w.Name, err)
		}
		l.slas = append(l.slas, v)
	}
	return nil
}

// writeTelling puts channels, routes and promises in force.
func (l *load) writeTelling(ctx context.Context, tx pgx.Tx, wanted Documents, changed func(kind, name string) int) error {
	for _, w := range wanted.Channels {
		secret := w.Password
		if strings.HasPrefix(secret, "${") {
			secret = ""
		}
		headers, err := w.headers()
		if err != nil || changed("channel", w.Name) < 0 && secret == "" && headers == nil && !w.whole() {
			if err != nil {
				return err
			}
			continue
		}
		if _, err := l.notifier.PutChannel(ctx, tx, w.record(), notify.Secrets{Secret: secret, Headers: headers}); err != nil {
			return err
		}
	}
	for _, w := range wanted.Routes {
		if err := l.setup.PutRoute(ctx, tx, w.record()); err != nil {
			return err
		}
	}
	for _, v := range l.slas {
		if changed("sla", v.Name) < 0 {
			continue
		}
		if err := l.watcher.PutSLA(ctx, tx, v); err != nil {
			return err
		}
	}
	return nil
}
