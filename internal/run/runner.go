// Package run carries plans out. A run is a row in the records and a job in the queue;
// whoever works the job takes a lease on the run, writes down each step's start and end,
// and can be killed at any moment: another worker takes the lease over and goes on, and
// since every step can be repeated without harm nothing comes to be twice.
package run

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/singleflight"

	"domicile/internal/artifact"
	"domicile/internal/compose"
	"domicile/internal/definition"
	"domicile/internal/handed"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/source"
)

// DefinitionReader reads the definition of a repository, as definition.Read does. of names
// its text. The error tells that it could not be read at all.
type DefinitionReader func(ctx context.Context, of string, files fs.FS, o definition.Options) (*definition.Report, error)

// Options says what runs work with.
type Options struct {
	Store *records.Store
	Sites map[string]site.Site
	// Drained are those of the sites that take nothing new.
	Drained []string
	// Given are the names of those that the service was given at this start.
	Given []string
	// Open opens a site of the records; leave ends what it holds open, nil: nothing. Nil: there
	// are no sites but Sites.
	Open   func(records.Site) (s site.Site, leave func(), err error)
	Source *source.Fetcher
	// Artifacts fetches the features of definitions.
	Artifacts *artifact.Store
	// Compose reads the Compose files of definitions.
	Compose compose.Reader
	// Definition reads definitions where the host's files are not; nil: they are read here.
	Definition DefinitionReader
	// Policy is what definitions may ask for.
	Policy judge.Policy
	// Vault opens what people keep sealed.
	Vault Vault
	// Keys are the service's own.
	Keys Keys
	// Sizes are those that a workspace may have; Size is whose limits one gets that asks for
	// none, empty: no limits.
	Sizes []plan.Size
	Size  string
	// IdleStop is how long a workspace that does not say so itself may be without use before
	// it stops; 0: it does not stop by itself.
	IdleStop time.Duration
	// DiskReserve is how much of a site's disk stays free, in bytes: who writes most is told
	// from twice of it on, and stopped at it. 0: nobody is.
	DiskReserve int64
	// KeepImages is how long an image stays that nothing uses and that is made again where it
	// is wanted; 0: until its site's disk is short.
	KeepImages time.Duration
	// LookEvery is how often followed branches are looked at; 0 means a minute.
	LookEvery time.Duration
	// Retention is how long what nobody needs any more is kept.
	Retention records.Retention
	Log       *slog.Logger
	// Workers is how many runs are carried out at a time; 0 means 8.
	Workers int
	// Pause is the first pause before a step is tried again; it doubles. 0 means 500 ms.
	Pause time.Duration
	// Tries is how often a step is tried when its fault may pass; 0 means 7.
	Tries int
}

// Vault opens what people keep sealed.
type Vault interface {
	// Login is how an account signs in to a git host; nil where it does not.
	Login(ctx context.Context, account int64, host string) (*source.Login, error)
	// Secrets are those of an account for a source that have one of the names.
	Secrets(ctx context.Context, account int64, source string, names []string) (map[string]string, error)
}

// Keys are the keys that the parts of the product know each other by.
type Keys interface {
	// Service is what agents know the service by.
	Service() ssh.Signer
	// Guest is what the helpers of a workspace know it by, the private key in PEM.
	Guest(workspace string) (public, private string, err error)
}

// Runner carries out runs and keeps records and sites in step.
type Runner struct {
	o        Options
	queue    *river.Client[pgx.Tx]
	instance *records.Instance

	plans  *lru.Cache[int64, keptPlan] // by workspace
	places *places
	// reading is held while the places are brought in step with the records, and sitesChanged
	// has something in it when there is a reason to look again.
	reading      sync.Mutex
	sitesChanged chan struct{}

	mu    sync.Mutex
	facts map[string]Examined // by site
	// carried are the runs that this process carries out now.
	carried map[int64]bool
	// noticed is when runs were asked for, by run: of one that is forgotten it counts from its
	// beginning.
	noticed *lru.Cache[int64, time.Time]
	doors   doorways
	// starting are agents that are started again, each once for all who ask.
	starting singleflight.Group
	// handed is what agents have handed over.
	handed handed.Room
	// attaching are workspaces of which somebody waits for a run of postAttachCommand.
	attaching map[int64]bool

	// serving ends when the service stops; what outlives a run goes on until then.
	serving context.Context
	works   map[int64]work      // of the services beside workspaces, by workspace
	asked   map[int64]time.Time // when a workspace was last asked whether it is used, by workspace
}

// Examined is what was last found at a site.
type Examined struct {
	site.Facts
	Kind site.Kind
	At   time.Time
	Took time.Duration // the last look
	Err  error
	// Since is from when on it does not answer, as far as that was seen.
	Since time.Time
	// Drained tells that it takes nothing new.
	Drained bool
}

// jobArgs are the arguments of the queue's job: which run to carry out.
type jobArgs struct {
	Run int64 `json:"run"`
	// Holder is the instance that the run was lost by; 0: nobody had taken it.
	Holder int64 `json:"holder,omitempty"`
	// Finder is the instance that found that nobody had taken it; 0: it is new, or was lost.
	Finder int64 `json:"finder,omitempty"`
}

// InsertOpts keeps two jobs of one run from waiting at a time. A job that still counts as
// running may be that of an instance that was killed before it took the run, or while it had
// it: then the next one has another Finder or Holder.
func (jobArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable, rivertype.JobStateRunning, rivertype.JobStateScheduled}}}
}

// Kind names the job.
func (jobArgs) Kind() string { return "run" }

type worker struct {
	river.WorkerDefaults[jobArgs]
	runner *Runner
}

// Work carries out a run. It never fails for the queue: the run's own record says how it
// ended, and who may try again.
func (w *worker) Work(ctx context.Context, job *river.Job[jobArgs]) error {
	w.runner.execute(ctx, job.Args.Run)
	return nil
}

// New makes a runner. Serve starts it.
func New(ctx context.Context, o Options) (*Runner, error) {
	if o.Workers == 0 {
		o.Workers = 8
	}
	if o.Pause == 0 {
		o.Pause = 500 * time.Millisecond
	}
	if o.Tries == 0 {
		o.Tries = 7
	}
	if o.LookEvery == 0 {
		o.LookEvery = time.Minute
	}
	instance, err := o.Store.Enlist(ctx)
	if err != nil {
		return nil, err
	}
	r := &Runner{o: o, places: placesOf(o.Sites, o.Drained), sitesChanged: make(chan struct{}, 1), instance: instance, facts: map[string]Examined{}, asked: map[int64]time.Time{}, works: map[int64]work{}, carried: map[int64]bool{}, attaching: map[int64]bool{}}
	if r.plans, err = lru.New[int64, keptPlan](maxPlans); err != nil {
		return nil, err
	}
	if r.noticed, err = lru.New[int64, time.Time](maxNoticed); err != nil {
		return nil, err
	}
	if err := r.readSites(ctx); err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{runner: r})
	r.queue, err = river.NewClient(riverpgxv5.New(o.Store.Pool), &river.Config{
		Queues:        map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: o.Workers}},
		Workers:       workers,
		FetchCooldown: 5 * time.Millisecond, // a person waits for it
		JobTimeout:    -1,                   // a build may take hours; the lease watches over it
		Logger:        slog.New(quiet{o.Log.Handler()}),
	})
	if err != nil {
		return nil, fmt.Errorf("open the queue: %w", err)
	}
	return r, nil
}

// quiet leaves out what the queue says below a warning.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && q.Handler.Enabled(ctx, l)
}

// Serve carries out runs until ctx ends; what is under way then is given back to others.
func (r *Runner) Serve(ctx context.Context) error {
	r.serving = ctx
	held := make(chan struct{})
	var once sync.Once
	var background sync.WaitGroup
	defer background.Wait()
	background.Go(func() {
		r.again(ctx, "hold the instance's lock", func() error {
			return r.instance.Hold(ctx, func() { once.Do(func() { close(held) }) })
		})
	})
	// Without the lock the others would take this instance for gone.
	select {
	case <-held:
	case <-ctx.Done():
		return nil
	}
	background.Go(func() { r.takeOver(ctx) })
	background.Go(func() { r.keepSites(ctx, &background) })
	background.Go(func() { r.followBranches(ctx) })
	background.Go(func() { r.keepWarm(ctx) })
	background.Go(func() { r.removeLeaving(ctx) })
	background.Go(func() { r.prune(ctx) })
	if err := r.queue.Start(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("start the queue: %w", err)
	}
	<-ctx.Done()
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err := r.queue.StopAndCancel(stop); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("stop the queue: %w", err)
	}
	return nil
}

// again calls f until ctx ends, with a pause after each end of it.
func (r *Runner) again(ctx context.Context, doing string, f func() error) {
	for ctx.Err() == nil {
		if err := f(); err != nil && ctx.Err() == nil {
			r.o.Log.Warn(doing, "error", err)
		}
		pause(ctx, time.Second)
	}
}

// pause waits, at most until ctx ends.
func pause(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	}
}

// Fetch brings a source to the service's host on behalf of an account.
func (r *Runner) Fetch(ctx context.Context, account int64, w source.Want) (c source.Checkout, err error) {
	if w.Login, err = r.o.Vault.Login(ctx, account, w.Address.Host()); err != nil {
		return c, err
	}
	return r.o.Source.Fetch(ctx, w)
}

// Examined returns what was last found at a site.
func (r *Runner) Examined(name string) Examined {
	r.mu.Lock()
	defer r.mu.Unlock()
	found := r.facts[name]
	if at, known := r.places.find(name); known {
		found.Kind, found.Drained = at.Kind(), at.drained
	}
	return found
}
