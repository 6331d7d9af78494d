package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"tinbell/core/timeline"
)

// logOf names the log that a table's loader writes; tables without one are silent.
var logOf = map[string]string{
	"raw.gate_events": "gates-loader", "raw.web_orders": "orders-loader", "ops.boarding_scans": "boarding-loader",
	"ops.ticket_sales": "sales-loader", "mart.daily_revenue": "revenue-mart",
}

// writer writes a loader's lines.
type writer struct {
	bytes.Buffer
	w   *World
	rng *rand.Rand
	at  time.Time
}

// line writes one, a little later than the one before.
func (b *writer) line(severity, format string, args ...any) {
	b.at = b.at.Add(time.Duration(1+b.rng.IntN(40)) * time.Millisecond)
	fmt.Fprintf(b, "%s %s [worker-%d] ", b.at.In(b.w.Zone).Format("2006-01-02T15:04:05.000Z07:00"), severity, 1+b.rng.IntN(4))
	fmt.Fprintf(b, format+"\n", args...)
}

// oneIn tells one time in n.
func (b *writer) oneIn(n int) bool { return b.rng.IntN(n) == 0 }

func (b *writer) host() string { return fmt.Sprintf("10.20.%d.%d", b.rng.IntN(4), 1+b.rng.IntN(250)) }

// load writes what a loader says of a load.
func (b *writer) load(l Load) {
	id := b.w.hash(l.Table.Name+" run", l.At.UnixNano())
	run := fmt.Sprintf("%08x-%04x-7000-8000-%012x", uint32(id>>32), uint16(id>>16), id&0xffffffffffff)
	b.at = l.At.Add(-time.Duration(800+b.rng.IntN(900)) * time.Millisecond)
	b.line("INFO", "run %s of %s begins, window ends %s", run, l.Table.Name, l.At.UTC().Format("2006-01-02 15:04:05"))
	b.line("DEBUG", "connection to %s:5432 opened in %d ms", b.host(), 1+b.rng.IntN(30))
	b.common(l, run)
	switch l.Table.Name {
	case "raw.gate_events":
		b.gates(l)
	case "raw.web_orders":
		b.orders(l)
	case "ops.boarding_scans":
		b.boarding(l)
	case "ops.ticket_sales":
		b.sales(l)
	default:
		b.mart(l)
	}
	b.line("INFO", "%s: %d rows written in %d ms", l.Table.Name, len(l.Rows), 20+b.rng.IntN(400))
	b.line("DEBUG", "committed at 0/%X", id%0xffffffff)
	b.line("INFO", "run %s ends, exit code 0", run)
}

// common is what all loaders say now and then.
func (b *writer) common(l Load, run string) {
	if b.oneIn(3) {
		b.line("DEBUG", "checkpoint of run %s kept in /var/lib/loaders/%s/%d.chk", run, logOf[l.Table.Name], b.rng.IntN(1_000_000))
	}
	if b.oneIn(6) {
		b.line("DEBUG", "cache holds %d entries, %.1f %% hits", 200+b.rng.IntN(3000), 80+20*b.rng.Float64())
	}
	if b.oneIn(9) {
		b.line("INFO", "read %.2f MB from %s in %d ms", 3*b.rng.Float64(), b.host(), 20+b.rng.IntN(300))
	}
	if b.oneIn(40) {
		b.line("WARN", "slow answer from %s: %d ms", b.host(), 900+b.rng.IntN(4000))
	}
	if b.oneIn(60) {
		b.line("WARN", "retrying after %s: connection reset by peer", time.Duration(1+b.rng.IntN(5))*time.Second)
	}
	if b.oneIn(90) {
		b.line("INFO", "configuration read again from /etc/loaders/%s.toml, %d keys", logOf[l.Table.Name], 14+b.rng.IntN(3))
	}
	if at := l.At.In(b.w.Zone); l.Table.Every < time.Hour && (at.Hour() == 3 && at.Minute() < 15 || b.oneIn(150)) {
		b.line("ERROR", "deadlock detected, transaction %d is run again", b.rng.IntN(9_000_000))
		b.WriteString("\tat loader.write(Writer:118)\n\tat loader.commit(Writer:164)\n\tat loader.run(Run:52)\n")
	}
}

func (b *writer) gates(l Load) {
	per := map[any]int{}
	for _, row := range l.Rows {
		per[row[1]]++
	}
	for _, port := range ports {
		if n := per[port]; n > 0 {
			b.line("DEBUG", "port %q sent %d events", port, n)
		}
	}
	if b.oneIn(12) {
		b.line("INFO", "clock of gate %d at %q is off by %d ms", 1+b.rng.IntN(4), ports[b.rng.IntN(len(ports))], 5+b.rng.IntN(90))
	}
	if b.oneIn(50) {
		b.line("WARN", "gate %d at %q rejected %d cards", 1+b.rng.IntN(4), ports[b.rng.IntN(len(ports))], 3+b.rng.IntN(20))
	}
}

func (b *writer) orders(l Load) {
	b.line("DEBUG", "GET https://shop.vellamar.example/api/orders?after=%d gave 200, %d orders", b.rng.IntN(90_000_000), len(l.Rows))
	if b.oneIn(10) {
		b.line("INFO", "order %d of customer %s corrected: amount %d", b.rng.IntN(9_000_000),
			fmt.Sprintf("c%06d", b.rng.IntN(999_999)), 900+b.rng.IntN(4000))
	}
	if b.oneIn(45) {
		b.line("WARN", "GET https://shop.vellamar.example/api/orders?after=%d gave 429, waiting %d s", b.rng.IntN(90_000_000),
			1+b.rng.IntN(9))
	}
	if b.oneIn(70) {
		b.line("WARN", "order %d has no passenger type", b.rng.IntN(9_000_000))
	}
}

func (b *writer) boarding(l Load) {
	b.line("DEBUG", "joined %d scans with %d bookings, %d without", len(l.Rows), len(l.Rows)+b.rng.IntN(30), b.rng.IntN(9))
	if b.oneIn(8) {
		b.line("INFO", "route %s: %d boarded", routes[b.rng.IntN(len(routes))], 20+b.rng.IntN(300))
	}
	if b.oneIn(40) {
		b.line("WARN", "%d scans of an unknown ticket at %q", 1+b.rng.IntN(5), ports[b.rng.IntN(len(ports))])
	}
	if b.oneIn(120) {
		b.line("INFO", "partition boarding_scans_%s made", l.At.UTC().Format("2006_01"))
	}
}

func (b *writer) sales(l Load) {
	for _, channel := range channels {
		if b.oneIn(2) {
			b.line("DEBUG", "sold channel=%s sales=%d sum=%.2f", channel, b.rng.IntN(200), 9000*b.rng.Float64())
		}
	}
	if b.oneIn(9) {
		b.line("INFO", "rate of exchange read: 1 EUR = %.4f", 1.4+0.1*b.rng.Float64())
	}
	if b.oneIn(55) {
		b.line("WARN", "receipt %s of kiosk %d came twice, the second is left out", fmt.Sprintf("r-%08x", b.rng.Uint32()), 1+b.rng.IntN(40))
	}
}

func (b *writer) mart(l Load) {
	for _, step := range []string{"days", "fares", "refunds", "totals"} {
		b.line("INFO", "step %s done: %d rows in %.1f s", step, len(l.Rows)+b.rng.IntN(900), 4*b.rng.Float64())
	}
	b.line("INFO", "revenue of %s: %.2f", l.At.AddDate(0, 0, -1).UTC().Format("2006-01-02"), 80_000+40_000*b.rng.Float64())
	if b.oneIn(7) {
		b.line("WARN", "%d refunds without a sale, kept in mart.orphans", 1+b.rng.IntN(6))
	}
}

// trouble writes what a loader says while its table is broken, at one attempt.
func (b *writer) trouble(v Breakage, at time.Time) {
	t := TableNamed(v.Table)
	where := ""
	if v.Segment >= 0 && len(t.Segments) > v.Segment {
		where = t.Segments[v.Segment]
	}
	b.at = at
	switch v.Kind {
	case Stall:
		b.line("ERROR", "giving up on %s after 5 attempts: %s:5432 refuses connections", v.Table, b.host())
		fmt.Fprintf(b, "\tat loader.connect(Source:77)\n\tat loader.run(Run:31)\nCaused by: no route to host\n")
	case Drop:
		if where == "" {
			where = "all"
		}
		b.line("ERROR", "%d rows of %q thrown away: column gate_id is missing in the answer", 5+b.rng.IntN(80), where)
	case Double:
		b.line("ERROR", "state file /var/lib/loaders/%s/last.chk is corrupt, batch is loaded from its beginning", logOf[v.Table])
	}
}

// spoken is how far back the demo's loaders have written.
const spoken = 9 * 24 * time.Hour

// Lines sends what the loaders wrote about loads, and about what is broken now.
func (e *Emitter) Lines(ctx context.Context, loads []Load, broken []Breakage, now time.Time) error {
	logs := map[string]*writer{}
	of := func(table string, salt int64) *writer {
		name := logOf[table]
		if name == "" {
			return nil
		}
		if logs[name] == nil {
			logs[name] = &writer{w: e.World}
		}
		logs[name].rng = rand.New(rand.NewPCG(e.World.hash(table+" lines", salt), 5))
		return logs[name]
	}
	for _, l := range loads {
		if b := of(l.Table.Name, l.At.UnixNano()); b != nil {
			b.load(l)
		}
	}
	if e.said == nil {
		e.said = map[int64]time.Time{}
	}
	for _, v := range broken {
		b := of(v.Table, now.UnixNano())
		if b == nil {
			continue
		}
		// It was broken a while before anybody broke it.
		every := TableNamed(v.Table).Every
		at := e.said[v.ID]
		if at.IsZero() {
			at = timeline.Later(v.Started, now.Add(-12*time.Hour))
		}
		for ; at.Before(now); at = at.Add(every) {
			b.trouble(v, at)
		}
		e.said[v.ID] = at
	}
	for table, name := range logOf {
		if b := logs[name]; b != nil {
			if name == filed {
				if err := e.file(b.Bytes(), now); err != nil {
					return err
				}
				continue
			}
			q := url.Values{"log": {name}, "dataset": {table}}
			if err := e.Client.Stream(ctx, "POST", "/logs?"+q.Encode(), "text/plain", &b.Buffer, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// filed is the log whose loader writes files, one a day; past days are packed.
const filed = "sales-loader"

// file writes lines to the file of their day.
func (e *Emitter) file(text []byte, now time.Time) error {
	folder := filepath.Join(e.Folder, "logs")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	today := now.In(e.World.Zone).Format(time.DateOnly)
	day, days := "", map[string][]byte{}
	for line := range bytes.Lines(text) {
		if len(line) > 10 && line[4] == '-' && line[7] == '-' { // else of a trace
			day = string(line[:10])
		}
		days[day] = append(days[day], line...)
	}
	for day, lines := range days {
		path := filepath.Join(folder, "sales-"+day+".log")
		_, err := os.Stat(path)
		if there := err == nil; day < today && !there { // of the past, all at once
			zipped, err := packed(lines)
			if err == nil {
				err = os.WriteFile(path+".gz", zipped, 0o644)
			}
			if err != nil {
				return err
			}
			continue
		}
		f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		if _, err := f.Write(lines); err != nil {
			return errors.Join(err, f.Close())
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	return nil
}

// written sends what the loaders wrote in the past, and has it watched.
func (e *Emitter) written(ctx context.Context) error {
	for i := range Tables {
		t := &Tables[i]
		name := logOf[t.Name]
		if name == "" {
			continue
		}
		// Known for nine days, a log can say of a week.
		settings := map[string]any{"job": "load " + t.Name, "watched": []string{"ERROR", "FATAL"}, "rare_seconds": 7 * 86400}
		if name == filed {
			if err := e.Client.Send(ctx, "PUT", "/logs/"+name, map[string]string{"dataset": t.Name}, nil); err != nil {
				return err
			}
			settings["source"], settings["pattern"], settings["by"] = "landing", "logs/sales-*.log*", []string{"channel"}
		}
		from := e.World.AsOf.Add(-spoken)
		if err := e.Lines(ctx, e.World.Loads(t, from.Add(-30*time.Hour), from, e.World.AsOf), nil, e.World.AsOf); err != nil {
			return err
		}
		if err := e.Client.Send(ctx, "PATCH", "/logs/"+name, settings, nil); err != nil {
			return err
		}
	}
	return nil
}
