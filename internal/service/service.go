// Package service puts the parts together and runs them: database, queue,
// duties and HTTP.
package service

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tinbell/internal/calendar"
	"tinbell/internal/chart"
	"tinbell/internal/collect"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/compare"
	"tinbell/internal/config"
	"tinbell/internal/diagnose"
	"tinbell/internal/duty"
	"tinbell/internal/faults"
	"tinbell/internal/feed"
	"tinbell/internal/health"
	"tinbell/internal/httpapi"
	"tinbell/internal/incident"
	"tinbell/internal/label"
	"tinbell/internal/lessons"
	"tinbell/internal/lineage"
	"tinbell/internal/localpg"
	"tinbell/internal/logs"
	"tinbell/internal/notify"
	"tinbell/internal/people"
	"tinbell/internal/reconcile"
	"tinbell/internal/replays"
	"tinbell/internal/scorecard"
	"tinbell/internal/setup"
	"tinbell/internal/sink"
	"tinbell/internal/store"
	"tinbell/internal/study"
	"tinbell/internal/telemetry"
	"tinbell/internal/vitals"
	"tinbell/internal/watch"
	"tinbell/internal/work"
	"tinbell/web"
)

// Options of a service. Database is an address; empty starts a private
// PostgreSQL below Dir.
type Options struct {
	Dir          string
	Database     string
	Listen       string
	ReadDatabase string // address of a replica that long readings of the past are read from; empty: none
	SignIn       bool
	Keep         store.Keep // for how many days what grows is kept
	Now          func() time.Time
	Log          *slog.Logger

	Public         string         // where people reach the service, for links in messages; empty: where it listens
	AllowPrivate   []netip.Prefix // addresses that webhooks may go to though they are not public
	Telemetry      string         // address that its own traces and figures are sent to by OTLP; empty: nowhere
	WatchItself    bool           // whether its own figures are a dataset
	Key            people.KeyFrom // where the key for secrets is, if not in its file
	Role           Role           // what this process does; empty: everything
	Stays          store.Stays    // how long browsers stay signed in, unused and at all; 0: a week, and 30 days
	OpenID         *people.OpenID // where people sign in by OpenID Connect; nil: nowhere
	TLSCert        string         // files of a certificate and its key, in PEM: served by HTTPS; empty: by HTTP
	TLSKey         string
	Reach          []netip.Prefix // where warehouses and mail servers may be; empty: anywhere but link-local and metadata addresses
	TrustedProxies []netip.Prefix // that say for whom they send requests
	Trust          *x509.CertPool // authorities of mail and web servers; nil: the system's
	Mailbox        *sink.Mailbox  // of the demo: what its stand-ins have received
}

// Role is what one of several processes on a database does.
type Role string

// Roles of processes.
const (
	RoleAll  Role = "all"
	RoleWeb  Role = "web"  // answers requests, and leaves work to others
	RoleWork Role = "work" // works, and answers no requests but how it is
)

// works tells whether a process of the role does what is done without being asked.
func (r Role) works() bool { return r != RoleWeb }

// Service is a running Tin Bell.
type Service struct {
	Address    string // http://host:port
	FirstToken string // of the first administrator, when just made
	ReadOnly   string // why it only shows what there is; empty: it does everything
	Postgres   *localpg.Server
	Parts      httpapi.Parts

	server    *http.Server
	ending    atomic.Bool // it takes in nothing more
	ended     chan error
	cancel    context.CancelFunc // of everything that goes on
	log       *slog.Logger
	telemetry *telemetry.Sender // nil: nowhere
	alive     *pulse
	leader    *duty.Leader
	duties    []*duty.Service
}

// ErrOpenBeyondLoopback refuses to serve everybody without sign-in.
var ErrOpenBeyondLoopback = errors.New("without sign-in the service listens on loopback only: give --sign-in=true, or an address such as 127.0.0.1:7411")

// Start brings everything up; the service answers when Start returns.
func Start(ctx context.Context, o Options) (*Service, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if !o.SignIn && !loopback(o.Listen) {
		return nil, ErrOpenBeyondLoopback
	}
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return nil, fmt.Errorf("make data directory: %w", err)
	}
	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen: %w", err)
	}
	scheme := "http://"
	if o.TLSCert != "" || o.TLSKey != "" {
		c, err := newCertificate(o.TLSCert, o.TLSKey, func(err error) { o.Log.Warn("the certificate before stays in use", "error", err) })
		if err != nil {
			return nil, errors.Join(err, listener.Close())
		}
		scheme, listener = "https://", tls.NewListener(listener, &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12,
			NextProtos: []string{"h2", "http/1.1"}})
	}
	life, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s := &Service{Address: scheme + listener.Addr().String(), ended: make(chan error, 1), cancel: cancel, log: o.Log}
	if err := s.assemble(ctx, life, o); err != nil {
		listener.Close()
		s.Stop()
		return nil, err
	}
	handler := httpapi.New(s.Parts)
	if o.Telemetry != "" {
		if s.telemetry, err = telemetry.Start(ctx, o.Telemetry, s.Parts.Vitals.Figures, o.Log); err != nil {
			return nil, errors.Join(err, listener.Close())
		}
		handler = s.telemetry.Traced(handler)
	}
	s.server = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return life }}
	s.server.RegisterOnShutdown(s.Parts.Hub.Close)
	go func() { s.ended <- s.server.Serve(listener) }()
	return s, nil
}

// host is the name or address that is listened on.
func host(listen string) string {
	name, _, err := net.SplitHostPort(listen)
	if err != nil {
		return ""
	}
	return name
}

// ErrOtherKey is what a key gives that is not the one of this database's secrets.
var ErrOtherKey = errors.New("is not the key with which this database's secrets are kept: copy the file from the directory of the process that made it")

// open gives the safe of the database's secrets. Where its key is gone the service looks and
// does nothing: what it would set up nobody could read.
func (s *Service) open(ctx context.Context, records *store.Store, o Options) (*people.Safe, error) {
	from := o.Key
	from.File = filepath.Join(o.Dir, "secret.key")
	known, err := records.HasKey(ctx)
	if err != nil {
		return nil, err
	}
	safe, gone, err := people.OpenKey(ctx, from, known)
	if err != nil {
		return nil, err
	}
	if gone {
		s.ReadOnly = people.ErrNoKey.Error()
		o.Log.Error("the service only shows what there is", "why", s.ReadOnly)
		return safe, nil
	}
	return safe, sameKey(ctx, records, safe, from.File)
}

// sameKey refuses a key with which the secrets of the database were not kept.
func sameKey(ctx context.Context, records *store.Store, safe *people.Safe, path string) error {
	kept, err := records.Key(ctx, safe.Fingerprint())
	if err == nil && !bytes.Equal(kept, safe.Fingerprint()) && !safe.Recover(kept) {
		err = fmt.Errorf("%s %w", path, ErrOtherKey)
	}
	return err
}

func loopback(listen string) bool {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (s *Service) assemble(ctx, life context.Context, o Options) error {
	address := o.Database
	if address == "" {
		var err error
		if s.Postgres, err = localpg.Start(ctx, localpg.Options{Dir: filepath.Join(o.Dir, "postgres"), Log: o.Log}); err != nil {
			return err
		}
		if _, err := s.Postgres.EnsureDatabase(ctx, "tinbell_records"); err != nil {
			return fmt.Errorf("make database: %w", err)
		}
		address = s.Postgres.URL("tinbell_records")
	}
	records, err := store.Open(ctx, address)
	if err != nil {
		return err
	}
	s.Parts.Store = records
	if o.ReadDatabase != "" {
		if err := records.ReadFrom(ctx, o.ReadDatabase); err != nil {
			return err
		}
	}
	safe, err := s.open(ctx, records, o)
	if err != nil {
		return err
	}
	p := httpapi.Parts{Store: records, Now: o.Now, Log: o.Log, SignIn: o.SignIn, Hub: httpapi.NewHub(), Console: web.Handler(),
		Mailbox: o.Mailbox}
	p.Pulse = store.NewPulse(records, o.Log)
	p.Warehouses = warehouse.New(records, safe, o.Reach)
	p.Watcher = watch.New(records, o.Now, o.Log)
	s.alive = &pulse{store: records}
	if s.alive.number, s.alive.lock, err = records.Enroll(ctx); err != nil {
		return err
	}
	j := &jobs{store: records, watcher: p.Watcher, now: o.Now}
	if p.Queue, err = work.New(ctx, records.Pool, s.alive.number, j.all(), o.Log); err != nil {
		return err
	}
	p.Collector = collect.New(records, p.Queue, p.Warehouses, o.Now, o.Log)
	j.collector, j.queue = p.Collector, p.Queue
	p.Setup = setup.New(records, p.Queue, o.Now)
	p.Comparer = compare.New(records, p.Queue, p.Warehouses, p.Collector, p.Setup, o.Now)
	j.comparer = p.Comparer
	p.Incidents = incident.New(records, p.Setup, o.Now)
	p.Labels = label.New(records, p.Queue, p.Setup, p.Incidents, o.Now)
	p.Calendars = calendar.New(records, p.Setup, o.Now)
	p.Scores, p.Lessons = scorecard.New(records, o.Now), lessons.New(records, o.Now)
	p.Bench = replays.New(records, p.Lessons, o.Now)
	p.Charts, p.Studies = chart.New(records, o.Now), study.New(records, o.Now)
	p.Health, p.Lineage = health.New(records, p.Watcher, o.Now), lineage.New(records, p.Watcher, o.Now)
	j.health, j.bench, j.lessons, j.calendars = p.Health, p.Bench, p.Lessons, p.Calendars
	p.People = people.New(records, safe, o.Stays, s.provider(o), o.Now)
	p.Reconciler = reconcile.New(records, p.Collector, p.Warehouses, p.Setup, p.Queue, o.Now, o.Log)
	p.Diagnoser = diagnose.New(records, p.Warehouses, p.Lineage, o.Now)
	p.Logs = logs.New(records, p.Collector, o.Now)
	p.Feeds = feed.New(records, p.Calendars, safe, o.AllowPrivate, o.Now)
	p.Notifier = notify.New(records, p.Charts, safe, notify.Options{Address: s.public(o), Allowed: o.AllowPrivate, Reach: o.Reach,
		Trust: o.Trust, Process: s.alive.number, Now: o.Now, Log: o.Log, Why: p.Diagnoser.Line})
	p.Faults = faults.New(records, p.Notifier.Hear, o.Now, o.Log)
	p.Config = config.New(records, p.Collector, p.Warehouses, p.Calendars, p.Watcher, p.Notifier, p.Comparer, p.Setup, p.Feeds, o.Now)
	p.Proxies, p.Works, p.Ending = o.TrustedProxies, o.Role == RoleWork, s.ending.Load
	p.Public, p.Listens, p.Secure = o.Public, host(o.Listen), o.TLSCert != "" || strings.HasPrefix(o.Public, "https://")
	p.Vitals = vitals.New(records, p.Collector, vitals.About{Dir: o.Dir, Public: o.Public, SignIn: o.SignIn}, o.Now)
	p.Queue.Watched = p.Vitals.Worked
	j.watchItself = o.WatchItself
	s.Parts = p
	p.ReadOnly, s.Parts.ReadOnly = s.ReadOnly, s.ReadOnly
	if o.SignIn && s.ReadOnly == "" {
		if s.FirstToken, err = p.People.First(ctx); err != nil {
			return err
		}
	}
	return s.begin(ctx, life, j, o)
}

// begin starts everything that goes on by itself.
func (s *Service) begin(ctx, life context.Context, j *jobs, o Options) error {
	p := s.Parts
	p.Pulse.Start(life)
	if o.Role.works() && s.ReadOnly == "" {
		if err := s.work(ctx, life, j, o); err != nil {
			return err
		}
	}
	// What is said from the first request on is streamed: none comes in before.
	listening := make(chan struct{})
	go s.relay(life, o.Log, sync.OnceFunc(func() { close(listening) }))
	select {
	case <-listening:
	case <-time.After(10 * time.Second):
		o.Log.Warn("live updates begin late")
	case <-ctx.Done():
		return ctx.Err()
	}
	return nil
}

// work begins what is done without being asked: jobs, duties, grouping and telling.
func (s *Service) work(ctx, life context.Context, j *jobs, o Options) error {
	if err := s.adopt(ctx); err != nil {
		return err
	}
	if err := s.Parts.Queue.Start(life); err != nil {
		return fmt.Errorf("start queue: %w", err)
	}
	s.leader = duty.NewLeader(s.Parts.Store)
	s.leader.Start(life)
	for _, c := range s.dutiesOf(j, o.Keep) {
		d := duty.New(c, s.leader.Leads, o.Log)
		s.duties = append(s.duties, d)
		d.Start(life)
	}
	s.Parts.Faults.Start(life)
	s.Parts.Notifier.Start(life)
	return nil
}

// relay passes the database's notices on to the console, reconnecting when the
// connection breaks.
func (s *Service) relay(ctx context.Context, log *slog.Logger, listening func()) {
	for ctx.Err() == nil {
		if err := s.Parts.Store.Listen(ctx, listening, s.hear); err != nil && ctx.Err() == nil {
			if !store.Unavailable(err) {
				log.Warn("live updates interrupted", "error", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(2 * time.Second):
			}
		}
	}
}

// hear passes a notice on: to who groups alerts if they changed, else to the console.
func (s *Service) hear(topic string) {
	if topic == string(store.TopicTell) {
		s.Parts.Faults.Wake()
		return
	}
	s.Parts.Hub.Tell(topic)
}

// public is where people reach the service.
func (s *Service) public(o Options) string {
	if o.Public != "" {
		return strings.TrimSuffix(o.Public, "/")
	}
	return s.Address
}

// provider is where people sign in by OpenID Connect; nil if there is none.
func (s *Service) provider(o Options) *people.Provider {
	if o.OpenID == nil {
		return nil
	}
	id := *o.OpenID
	id.Back = s.public(o) + "/sign-in/provider/back"
	return people.NewProvider(id, o.Now)
}

// Ended gives a value when the HTTP server stops by itself.
func (s *Service) Ended() <-chan error { return s.ended }

// Duty gives one of the duties by its name, for tests that wait for a round of it.
func (s *Service) Duty(name string) *duty.Service {
	for _, d := range s.duties {
		if d.Name == name {
			return d
		}
	}
	return nil
}
