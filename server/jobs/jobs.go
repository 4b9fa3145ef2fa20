// Package jobs is the background work. What must not wait goes round on every
// server, one at a time doing it; what may wait is in a queue in PostgreSQL that
// all share. (Judging is in neither: see package judge.)
package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"kestite/server/incidents"
	"kestite/server/inward"
	"kestite/server/judge"
	"kestite/server/publish"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// HoursArgs asks for the hourly summaries that are due.
type HoursArgs struct{}

// Kind of the job.
func (HoursArgs) Kind() string { return "hours" }

// AheadArgs asks for the partitions of the coming days.
type AheadArgs struct{}

// Kind of the job.
func (AheadArgs) Kind() string { return "ahead" }

// AllowancesArgs asks for incidents of agreements whose allowance goes too fast.
type AllowancesArgs struct{}

// Kind of the job.
func (AllowancesArgs) Kind() string { return "allowances" }

// ReportsArgs asks for the drafts that are due by schedules.
type ReportsArgs struct{}

// Kind of the job.
func (ReportsArgs) Kind() string { return "reports" }

// TidyArgs asks for what is kept no longer to be dropped.
type TidyArgs struct{}

// Kind of the job.
func (TidyArgs) Kind() string { return "tidy" }

// HealArgs asks for rows of earlier versions to be mended.
type HealArgs struct{}

// Kind of the job.
func (HealArgs) Kind() string { return "heal" }

// worker does one kind of work within a time, over the connections for jobs.
type worker[A river.JobArgs] struct {
	river.WorkerDefaults[A]
	within time.Duration
	do     func(context.Context) error
}

func (w *worker[A]) Timeout(*river.Job[A]) time.Duration { return w.within }

func (w *worker[A]) Work(ctx context.Context, _ *river.Job[A]) error {
	return w.do(store.For(ctx, store.Jobs))
}

// Jobs runs background work.
type Jobs struct {
	client *river.Client[pgx.Tx]
	with   With
	ended  sync.WaitGroup
	end    context.CancelFunc
}

// With is what the jobs work with.
type With struct {
	Store     *store.Store
	Judge     *judge.Judge
	Inward    *inward.Inward
	Rosters   *share.Rosters
	Incidents *incidents.Keeper
	Reports   *publish.Desk
	Log       *slog.Logger
	Now       func() time.Time
}

// every queues a job once in each period, whichever server does. The next
// period's does not wait for one that a server took along when it died.
func every[A river.JobArgs](period time.Duration, args A) *river.PeriodicJob {
	opts := &river.InsertOpts{MaxAttempts: 3, UniqueOpts: river.UniqueOpts{ByPeriod: period}}
	return river.NewPeriodicJob(river.PeriodicInterval(period), func() (river.JobArgs, *river.InsertOpts) { return args, opts },
		&river.PeriodicJobOpts{RunOnStart: true})
}

// New returns jobs that are not running yet.
func New(w With) (*Jobs, error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker[HoursArgs]{within: 10 * time.Minute, do: w.hours})
	river.AddWorker(workers, &worker[AllowancesArgs]{within: 10 * time.Minute, do: w.Incidents.Allowances})
	river.AddWorker(workers, &worker[ReportsArgs]{within: 20 * time.Minute, do: w.reports})
	river.AddWorker(workers, &worker[AheadArgs]{within: time.Minute, do: w.ahead})
	river.AddWorker(workers, &worker[TidyArgs]{within: time.Hour, do: w.tidy})
	river.AddWorker(workers, &worker[HealArgs]{within: time.Hour, do: w.heal})
	client, err := river.NewClient(riverpgxv5.New(w.Store.PoolOf(store.Jobs)), &river.Config{
		Queues:                      map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 3}},
		Workers:                     workers,
		Logger:                      w.Log,
		FetchCooldown:               100 * time.Millisecond,
		FetchPollInterval:           500 * time.Millisecond,
		RescueStuckJobsAfter:        2 * time.Hour,
		CompletedJobRetentionPeriod: 10 * time.Minute,
		CancelledJobRetentionPeriod: time.Hour,
		DiscardedJobRetentionPeriod: 24 * time.Hour,
		ReindexerIndexNames:         []string{}, // the role that works does not own the indexes
		PeriodicJobs: []*river.PeriodicJob{
			every(time.Minute, HoursArgs{}),
			every(time.Minute, AllowancesArgs{}),
			every(time.Minute, ReportsArgs{}),
			every(time.Hour, AheadArgs{}),
			every(6*time.Hour, TidyArgs{}),
			every(24*time.Hour, HealArgs{}),
		},
	})
	if err != nil {
		return nil, fmt.Errorf("set up background work: %w", err)
	}
	return &Jobs{client: client, with: w}, nil
}

// tendEvery is how often the prompt round goes.
const tendEvery = 3 * time.Second

// tend makes the measurements that the server makes itself, looks which agents are
// there, and which incidents no judging opens or ends, where no other server is at it.
func (w *With) tend(ctx context.Context) error {
	_, err := w.Store.Alone(ctx, "tend", func(ctx context.Context) error {
		return errors.Join(w.Rosters.Update(ctx, ""), w.Inward.Due(ctx), w.Incidents.Sweep(ctx))
	})
	return err
}

// hours sums up, and notes that the queue moves.
func (w *With) hours(ctx context.Context) error {
	return errors.Join(w.Judge.Hours(ctx), w.Store.Worked(ctx, w.Now()))
}

// reports drafts what is due by schedules, where no other server is at it.
func (w *With) reports(ctx context.Context) error {
	_, err := w.Store.Alone(ctx, "report schedules", func(ctx context.Context) error { return w.Reports.Scheduled(ctx, w.Now()) })
	return err
}

func (w *With) ahead(ctx context.Context) error { return w.Store.EnsurePartitionsAhead(ctx, w.Now()) }

func (w *With) tidy(ctx context.Context) error {
	dropped, err := w.drop(ctx)
	if len(dropped) > 0 {
		w.Log.Info("raw measurements dropped that are kept no longer", "partitions", dropped)
	}
	return errors.Join(w.Store.DropOldRosters(ctx), w.Store.DropAttempts(ctx), w.Store.DropOldSessions(ctx),
		w.Store.DropOldLinks(ctx), w.Store.DropOldBrowsers(ctx), w.Store.DropOldChanges(ctx, w.Now().AddDate(0, 0, -7)), DropNotices(ctx, w.Store, w.Now()), err)
}

// drop drops the raw measurements that nobody needs any more. Where it cannot be told which
// those are, nothing is dropped.
func (w *With) drop(ctx context.Context) ([]string, error) {
	keep, err := w.Reports.Needed(ctx, w.Now())
	if err != nil {
		return nil, fmt.Errorf("nothing is dropped: which measurements are needed cannot be told: %w", err)
	}
	return w.Store.DropPartitions(ctx, w.Now(), keep)
}

func (w *With) heal(ctx context.Context) error {
	for {
		if done, err := w.Judge.Heal(ctx); err != nil || done {
			return err
		}
	}
}

// Start begins working.
func (j *Jobs) Start(ctx context.Context) error {
	rounds, end := context.WithCancel(store.For(ctx, store.Jobs))
	j.end = end
	j.ended.Go(func() { j.rounds(rounds) })
	return j.client.Start(ctx)
}

func (j *Jobs) rounds(ctx context.Context) {
	tick := time.NewTicker(tendEvery)
	defer tick.Stop()
	for {
		if err := j.with.tend(ctx); err != nil && ctx.Err() == nil {
			j.with.Log.Warn("reports, derived values, agents and incidents will be looked at again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Stop waits for what is under way, or cancels it when ctx ends first.
func (j *Jobs) Stop(ctx context.Context) error {
	j.end()
	j.ended.Wait()
	if err := j.client.Stop(ctx); err != nil {
		return j.client.StopAndCancel(context.WithoutCancel(ctx))
	}
	return nil
}

// toldAtOnce is how many notices are dropped in one statement.
const toldAtOnce = 2000

// DropNotices drops what was told so long ago that what it tells of is kept no longer
// either, in small pieces.
func DropNotices(ctx context.Context, s *store.Store, now time.Time) error {
	for {
		n, err := s.DropOldNotices(ctx, db.DropOldNoticesParams{Before: now.AddDate(0, 0, -store.RawDays), Most: toldAtOnce})
		if err != nil || n < toldAtOnce {
			return err
		}
	}
}
