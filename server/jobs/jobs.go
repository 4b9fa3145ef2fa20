// Package jobs is the background work: a queue in PostgreSQL that any number of
// servers share.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"kestite/server/inward"
	"kestite/server/judge"
	"kestite/server/share"
	"kestite/server/store"
)

// JudgeArgs asks for services to be judged.
type JudgeArgs struct {
	Services []string `json:"services"`
}

// Kind of the job.
func (JudgeArgs) Kind() string { return "judge" }

// InsertOpts puts judging first and keeps finished jobs for a short time only.
func (JudgeArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{Priority: 1} }

// StaleArgs asks for services to be judged whose checks fell silent.
type StaleArgs struct{}

// Kind of the job.
func (StaleArgs) Kind() string { return "stale" }

// TendArgs asks for the measurements that the server makes itself, and for a
// look at which agents are there.
type TendArgs struct{}

// Kind of the job.
func (TendArgs) Kind() string { return "tend" }

type tendWorker struct {
	river.WorkerDefaults[TendArgs]
	inward  *inward.Inward
	rosters *share.Rosters
}

func (w *tendWorker) Work(ctx context.Context, _ *river.Job[TendArgs]) error {
	return errors.Join(w.rosters.Update(ctx, ""), w.inward.Due(ctx))
}

// HoursArgs asks for the hourly summaries that are due.
type HoursArgs struct{}

// Kind of the job.
func (HoursArgs) Kind() string { return "hours" }

// TidyArgs asks for raw measurements to be dropped that are kept no longer.
type TidyArgs struct{}

// Kind of the job.
func (TidyArgs) Kind() string { return "tidy" }

type tidyWorker struct {
	river.WorkerDefaults[TidyArgs]
	store *store.Store
	log   *slog.Logger
}

func (w *tidyWorker) Work(ctx context.Context, _ *river.Job[TidyArgs]) error {
	if err := w.store.DropOldRosters(ctx); err != nil {
		return err
	}
	dropped, err := w.store.DropPartitions(ctx, time.Now())
	if len(dropped) > 0 {
		w.log.Info("raw measurements dropped that are kept no longer", "partitions", dropped)
	}
	return err
}

type judgeWorker struct {
	river.WorkerDefaults[JudgeArgs]
	judge *judge.Judge
}

func (w *judgeWorker) Work(ctx context.Context, job *river.Job[JudgeArgs]) error {
	return w.judge.Services(ctx, job.Args.Services)
}

type staleWorker struct {
	river.WorkerDefaults[StaleArgs]
	judge *judge.Judge
}

func (w *staleWorker) Work(ctx context.Context, _ *river.Job[StaleArgs]) error {
	return w.judge.Stale(ctx)
}

type hoursWorker struct {
	river.WorkerDefaults[HoursArgs]
	judge *judge.Judge
}

func (w *hoursWorker) Work(ctx context.Context, _ *river.Job[HoursArgs]) error {
	return w.judge.Hours(ctx)
}

// Jobs runs background work.
type Jobs struct{ client *river.Client[pgx.Tx] }

// How often deadlines are looked at. A silence is seen at most this late.
const (
	staleEvery = 2 * time.Second
	tendEvery  = 3 * time.Second
	hoursEvery = time.Minute
	tidyEvery  = 6 * time.Hour
)

// New returns jobs that are not running yet.
func New(s *store.Store, j *judge.Judge, in *inward.Inward, rosters *share.Rosters, log *slog.Logger) (*Jobs, error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, &judgeWorker{judge: j})
	river.AddWorker(workers, &staleWorker{judge: j})
	river.AddWorker(workers, &tendWorker{inward: in, rosters: rosters})
	river.AddWorker(workers, &hoursWorker{judge: j})
	river.AddWorker(workers, &tidyWorker{store: s, log: log})
	once := &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByArgs: true, ByPeriod: time.Second}}
	client, err := river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		Queues:                      map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 8}},
		Workers:                     workers,
		Logger:                      log,
		FetchCooldown:               100 * time.Millisecond,
		FetchPollInterval:           500 * time.Millisecond,
		CompletedJobRetentionPeriod: 10 * time.Minute,
		PeriodicJobs: []*river.PeriodicJob{
			river.NewPeriodicJob(river.PeriodicInterval(staleEvery), func() (river.JobArgs, *river.InsertOpts) { return StaleArgs{}, once }, nil),
			river.NewPeriodicJob(river.PeriodicInterval(tendEvery), func() (river.JobArgs, *river.InsertOpts) { return TendArgs{}, once }, nil),
			river.NewPeriodicJob(river.PeriodicInterval(hoursEvery), func() (river.JobArgs, *river.InsertOpts) { return HoursArgs{}, once }, &river.PeriodicJobOpts{RunOnStart: true}),
			river.NewPeriodicJob(river.PeriodicInterval(tidyEvery), func() (river.JobArgs, *river.InsertOpts) { return TidyArgs{}, once }, &river.PeriodicJobOpts{RunOnStart: true}),
		},
	})
	if err != nil {
		return nil, fmt.Errorf("set up background work: %w", err)
	}
	return &Jobs{client}, nil
}

// Judge enqueues the judging of services in a transaction.
func (j *Jobs) Judge(ctx context.Context, tx pgx.Tx, services []string) error {
	_, err := j.client.InsertTx(ctx, tx, JudgeArgs{services}, nil)
	return err
}

// Start begins working; Stop ends it after what is under way.
func (j *Jobs) Start(ctx context.Context) error { return j.client.Start(ctx) }

// Stop waits for the jobs under way, or cancels them when ctx ends first.
func (j *Jobs) Stop(ctx context.Context) error {
	if err := j.client.Stop(ctx); err != nil {
		return j.client.StopAndCancel(context.WithoutCancel(ctx))
	}
	return nil
}
