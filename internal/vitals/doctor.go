package vitals

import (
	"context"
	"fmt"
	"syscall"
	"time"

	"tinbell/internal/words"
)

// Check is something about the set-up that was looked at.
type Check struct {
	Name  string `json:"name"`
	State string `json:"state" enum:"good,mind,wrong"`
	Said  string `json:"said" doc:"what was found"`
	Do    string `json:"do" doc:"what to do; empty where it is good"`
}

// Examination is all that was looked at.
type Examination struct {
	Checks   []Check `json:"checks"`
	Wrong    int     `json:"wrong"`
	Mind     int     `json:"mind"`
	Sentence string  `json:"sentence"`
}

// States of checks.
const (
	good  = "good"
	mind  = "mind"
	wrong = "wrong"
)

// limits from which a check is minded, and from which it is wrong.
type limits struct{ mind, wrong float64 }

func (l limits) state(v float64) string {
	switch {
	case v >= l.wrong:
		return wrong
	case v >= l.mind:
		return mind
	}
	return good
}

// Examine looks at how the service is set up and how it is doing, and says what to do.
func (r *Reader) Examine(ctx context.Context) (Examination, error) {
	e := Examination{Checks: []Check{}}
	add := func(name, state, said, do string) {
		if state == good {
			do = ""
		}
		e.Checks = append(e.Checks, Check{name, state, said, do})
		switch state {
		case wrong:
			e.Wrong++
		case mind:
			e.Mind++
		}
	}
	v, err := r.store.Vitals(ctx, r.now())
	if err != nil {
		return e, err
	}
	seconds := func(s float64) string {
		return words.Duration(time.Duration(s * float64(time.Second)).Round(time.Second))
	}

	old := good
	if v.Version < 140000 {
		old = mind
	}
	add("database", old, fmt.Sprintf("PostgreSQL %d.%d, %s", v.Version/10000, v.Version%10000, words.Bytes(v.Bytes)),
		"move to PostgreSQL 14 or newer: the one there is gets no mends")
	switch {
	case !v.Fsync:
		add("durability", wrong, "fsync is off", "set fsync = on: what was acknowledged is lost when the machine fails")
	case !v.Synchronous:
		add("durability", wrong, "synchronous_commit is off",
			"set synchronous_commit = on: what was acknowledged in the last moments is lost when the server fails")
	default:
		add("durability", good, "what is acknowledged is on disk", "")
	}
	ahead := max(v.ClockAhead, -v.ClockAhead)
	add("clocks", limits{2, 60}.state(ahead), fmt.Sprintf("that of the database and this one differ by %.1f s", ahead),
		"have both follow the same time server: loads look late or early by as much")
	add("connections", limits{.8, .95}.state(v.Connections/max(v.Allowed, 1)),
		fmt.Sprintf("%.0f of %.0f of the database's server are in use", v.Connections, v.Allowed),
		"raise max_connections, or have others use fewer: further ones are refused")
	if free, all, ok := disk(r.about.Dir); ok {
		state := limits{.9, .97}.state(1 - free/all)
		add("disk", state, fmt.Sprintf("%s of %s are free where the data directory is", words.Bytes(free), words.Bytes(all)),
			"make room, or keep samples for fewer days (serve --keep-days, dataset keep)")
	}
	add("work", limits{60, 600}.state(v.OldestJob), fmt.Sprintf("%s, the oldest due for %s", words.Agree(int(v.JobsWaiting),
		"job waits", "jobs wait"), seconds(v.OldestJob)),
		"see what takes long (tinbell task list), or start another process on the same database")
	add("given up", limits{1, 50}.state(v.JobsGivenUp), fmt.Sprintf("%.0f in the last hour", v.JobsGivenUp),
		"the log names each with why: it is tried again when it is next due")
	add("messages", limits{120, 900}.state(v.OldestMessage), fmt.Sprintf("%.0f wait, the oldest overdue by %s", v.MessagesWaiting,
		seconds(v.OldestMessage)), "see why: tinbell message list --state waiting")
	add("channels", limits{1, 1e9}.state(v.ChannelsFailed), fmt.Sprintf("%.0f could not be reached the last time",
		v.ChannelsFailed), "see why: tinbell channel list")
	add("sources", limits{1, 1e9}.state(v.SourcesFailed), fmt.Sprintf("%.0f could not be read the last time", v.SourcesFailed),
		"see why: tinbell source list")
	add("metrics", limits{1, 1e9}.state(v.MetricsFailed), fmt.Sprintf("%.0f could not be measured the last time",
		v.MetricsFailed), "see why: tinbell metric list")
	if !r.about.SignIn {
		add("sign-in", mind, "it is off: whoever is on this machine is administrator", "start the service with sign-in, as it is by itself")
	} else if r.about.Public == "" {
		add("address", mind, "links in messages lead to where the service listens", "say where people reach it: serve --public-url")
	}
	e.Sentence = "All is well."
	if e.Wrong+e.Mind > 0 {
		e.Sentence = fmt.Sprintf("Of %s %d wrong, and %d to be minded.", words.Plural(len(e.Checks), "check"), e.Wrong, e.Mind)
	}
	return e, nil
}

// disk is how much room there is where a folder is, in bytes.
func disk(folder string) (free, all float64, ok bool) {
	if folder == "" {
		return 0, 0, false
	}
	var s syscall.Statfs_t
	if err := syscall.Statfs(folder, &s); err != nil || s.Blocks == 0 {
		return 0, 0, false
	}
	return float64(s.Bavail) * float64(s.Bsize), float64(s.Blocks) * float64(s.Bsize), true
}
