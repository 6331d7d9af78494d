package service

import (
	"context"
	"errors"
	"time"

	"tinbell/core/replay"
	"tinbell/internal/duty"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

const (
	// often is how soon what becomes due is seen.
	often = 5 * time.Second
	// beats is how often a process says that it lives; one that has not for a
	// while does not.
	beats, deadAfter = 2 * time.Second, 10 * time.Second
	// unheld is how long a task may be without a job before it has failed.
	unheld = time.Minute
)

// dutiesOf are all that is done again and again, each on its own.
func (s *Service) dutiesOf(j *jobs, keep store.Keep) []duty.Config {
	now := j.now
	return []duty.Config{
		{Name: "beat", Every: beats, Everywhere: true, Round: s.alive.beat,
			Doc: "says that this process lives"},
		{Name: "orphans", Every: beats, Everywhere: true, Round: s.adopt,
			Doc: "takes over the jobs and messages of processes that are gone"},
		{Name: "collect", Every: often, Round: func(ctx context.Context) error { return j.collectDue(ctx, now()) },
			Doc: "queues the datasets whose collection is due"},
		{Name: "pushed", Every: often, Round: func(ctx context.Context) error { return j.judgePushed(ctx, now()) },
			Doc: "has pushed metrics judged whose period has passed without a sample"},
		{Name: "points", Every: often, Round: j.collector.SettlePoints,
			Doc: "makes the samples of periods whose points have come"},
		{Name: "refits", Every: 3 * often, Round: func(ctx context.Context) error { return j.refit(ctx, now()) },
			Doc: "queues the monitors whose baselines are due to be chosen anew"},
		{Name: "reconciliations", Every: 3 * often, Round: s.Parts.Reconciler.Due,
			Doc: "compares what has come at both stages of each reconciliation"},
		{Name: "lags", Every: 3 * time.Minute, Within: time.Hour, Round: s.Parts.Faults.Learn,
			Doc: "learns how long after its upstream each dataset shows a disturbance"},
		{Name: "budgets", Every: time.Hour, Within: time.Hour, Round: j.watcher.Govern,
			Doc: "raises the limits of rules that tell more than is stated, and lowers them where labels say they were right"},
		{Name: "corrections", Every: 3 * often, Round: j.rejudgeLate,
			Doc: "has series judged again that changed before what they were fitted to"},
		{Name: "comparisons", Every: often, Round: j.comparer.Due,
			Doc: "queues the comparisons that are due"},
		{Name: "overdue", Every: often, Round: j.watcher.Overdue,
			Doc: "opens and closes the alerts about loads that are late"},
		{Name: "promises", Every: time.Minute, Round: j.watcher.Promises,
			Doc: "opens and closes the alerts about promised deliveries"},
		{Name: "silent jobs", Every: time.Minute, Round: j.watcher.SilentJobs,
			Doc: "opens and closes the alerts about jobs that have not run"},
		{Name: "noted", Every: time.Minute, Round: func(ctx context.Context) error { return s.Parts.Store.CloseNoted(ctx, now().AddDate(0, 0, -1), now()) },
			Doc: "closes alerts about columns and files that people have had a day to see"},
		{Name: "backfills", Every: often, Round: j.collector.TakeOver,
			Doc: "queues the backfills that lost their process"},
		{Name: "tasks", Every: 3 * often, Round: s.endLost,
			Doc: "ends the tasks that lost their job"},
		{Name: "nightly", Every: time.Minute, Round: func(ctx context.Context) error { return j.tuneNightly(ctx, now()) },
			Doc: "orders a tuning of all monitors once a night"},
		{Name: "pack", Every: time.Hour, Within: time.Hour, Round: func(ctx context.Context) error {
			_, err := s.Parts.Store.PackDays(ctx, store.RecentFrom(now()))
			return err
		}, Doc: "packs the samples of days that are over"},
		{Name: "forget", Every: time.Hour, Within: time.Hour, Round: func(ctx context.Context) error {
			_, err := s.Parts.Store.ForgetOld(ctx, now(), keep.Samples)
			_, recordsErr := s.Parts.Store.ForgetRecords(ctx, keep.Records, now())
			_, auditErr := s.Parts.Store.ForgetAudit(ctx, keep.Audit, now())
			return errors.Join(err, recordsErr, auditErr, j.collector.ForgetPoints(ctx), j.collector.ForgetFiles(ctx, keep.Records), s.Parts.Logs.Forget(ctx, keep.Samples), s.Parts.People.Forget(ctx))
		}, Doc: "drops what is older than is kept"},
		{Name: "logs", Every: 3 * often, Round: s.Parts.Logs.Due,
			Doc: "makes samples of the log lines that were counted"},
		{Name: "log files", Every: often, Round: s.Parts.Logs.Files,
			Doc: "counts what has come in the files of logs that are followed"},
		{Name: "sentences", Every: often, Round: s.Parts.Logs.News,
			Doc: "opens and closes the alerts about logs that say what they never said"},
		{Name: "own figures", Every: time.Minute, Round: func(ctx context.Context) error {
			if !j.watchItself {
				return nil
			}
			return s.Parts.Vitals.Watch(ctx)
		}, Doc: "makes samples of the service's own figures"},
		{Name: "feeds", Every: time.Minute, Within: time.Hour, Round: s.Parts.Feeds.Due,
			Doc: "fetches the calendars whose address is to be asked again"},
		{Name: "calendars", Every: time.Hour, Round: j.calendars.Extend,
			Doc: "writes out the occurrences that have come within reach"},
	}
}

// pulse is how this process says that it lives.
type pulse struct {
	store  *store.Store
	number int32
	lock   *store.Lock
}

// beat says so, and takes the lock again if its connection was lost.
func (v *pulse) beat(ctx context.Context) error {
	if v.lock == nil || v.lock.Check(ctx) != nil {
		v.release()
		lock, held, err := v.store.Claim(ctx, v.number)
		if err != nil || !held {
			return err
		}
		v.lock = lock
	}
	return v.store.Beat(ctx, v.number)
}

func (v *pulse) release() {
	if v.lock != nil {
		v.lock.Release()
		v.lock = nil
	}
}

// adopt takes over the jobs of processes that are gone, and the messages that they were
// sending.
func (s *Service) adopt(ctx context.Context) error {
	living, err := s.Parts.Store.Living(ctx, deadAfter)
	if err != nil || len(living) == 0 {
		return err
	}
	n, err := s.Parts.Queue.Adopt(ctx, living)
	if n > 0 {
		s.log.WarnContext(ctx, "jobs taken over whose process is gone", "jobs", n)
	}
	freed, freeErr := s.Parts.Store.FreeLeases(ctx, living)
	if freed > 0 {
		s.log.WarnContext(ctx, "messages taken over whose process is gone", "messages", freed)
	}
	return errors.Join(err, freeErr)
}

// endLost ends the tasks that no job works on any more: its process ended, or
// the job was given up. Backfills and comparisons are taken up by duties of
// their own.
func (s *Service) endLost(ctx context.Context) error {
	tasks, err := s.Parts.Store.RunningTasks(ctx, []string{"learn", "tune", "trial"}, unheld)
	if err != nil || len(tasks) == 0 {
		return err
	}
	lost, err := s.Parts.Queue.Orphaned(ctx, tasks)
	if err != nil {
		return err
	}
	for _, id := range lost {
		err = errors.Join(err, s.Parts.Store.EndTask(ctx, id, errors.New("what worked on it ended early: start it again")))
	}
	return err
}

func (d *jobs) collectDue(ctx context.Context, now time.Time) error {
	due, err := d.store.DueDatasets(ctx, now)
	if err != nil {
		return err
	}
	for _, id := range due {
		err = errors.Join(err, d.queue.Add(ctx, work.Collect{DatasetID: id}))
	}
	return err
}

func (d *jobs) judgePushed(ctx context.Context, now time.Time) error {
	due, err := d.store.DuePushed(ctx, now)
	if err != nil {
		return err
	}
	for _, id := range due {
		err = errors.Join(err, d.queue.Add(ctx, work.Evaluate{MetricID: id, From: now}))
	}
	return err
}

func (d *jobs) rejudgeLate(ctx context.Context) error {
	metrics, err := d.store.LateMetrics(ctx)
	if err != nil {
		return err
	}
	for _, id := range metrics {
		err = errors.Join(err, d.queue.Add(ctx, work.Rejudge{MetricID: id}))
	}
	return err
}

// refit queues the monitors whose baselines are due to be chosen anew, those
// with series that had too little history, or became others, each day, and those that were never
// fitted though their first fit was ordered.
func (d *jobs) refit(ctx context.Context, now time.Time) error {
	monitors, err := d.store.LearnedMonitors(ctx, now)
	if err != nil {
		return err
	}
	for _, m := range monitors {
		wait := 24 * time.Hour
		if !m.Waiting && !m.Other && m.From != nil {
			wait = replay.RefitAfter(m.LearnedAt.Sub(*m.From))
		}
		due := m.LearnedAt.Add(wait)
		if now.Before(due) {
			continue
		}
		// A fit that began after it was due makes a second order of it void.
		err = errors.Join(err, d.queue.Add(ctx, work.Learn{MonitorID: m.ID, Asked: due}))
	}
	unfitted, unfittedErr := d.store.UnfittedMonitors(ctx)
	lost, lostErr := d.queue.Unordered(ctx, unfitted)
	for _, id := range lost {
		err = errors.Join(err, d.queue.Add(ctx, work.Learn{MonitorID: id, History: true}))
	}
	return errors.Join(err, unfittedErr, lostErr)
}
