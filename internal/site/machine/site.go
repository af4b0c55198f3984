package machine

import (
	"context"
	"encoding/json"
	"maps"
	"math"
	"net"
	"path/filepath"
	"sync"
	"time"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// Options say what makes the machines, and what they are made for.
type Options struct {
	Kind  site.Kind
	Maker Maker
	// Engine is what the engines in all machines have in common.
	Engine engine.Options
	// Images is the engine that pulls and builds for the machines; nil, or an answer of nil: there
	// is none.
	Images func() *engine.Site
	// Say tells of what a person who looks after the service should know; nil: nobody.
	Say func(format string, args ...any)
	// Usual is the size of a machine for a workspace without limits.
	Usual Shape
	// Folder is where what is kept of machines lies for a moment, and where services that share it
	// wait for each other; empty: the usual place for such files, and nobody shares it.
	Folder string
	// System is what machines are, in words; empty: of this host.
	System string
}

// Site is a place where each workspace has a machine of its own.
type Site struct {
	o Options

	mu      sync.Mutex
	engines map[string]*engine.Site // by machine
	homes   map[string]string       // the machines of helpers, as far as they are known

	lostSince map[string]time.Time // since when the ways out of machines have been seen to have ended

	marking Turns // by machine: to change what is kept with it
}

var (
	_ site.Site     = (*Site)(nil)
	_ site.Able     = (*Site)(nil)
	_ site.Beside   = (*Site)(nil)
	_ site.Placer   = (*Site)(nil)
	_ site.Overseer = (*Site)(nil)
	_ site.Aside    = (*Site)(nil)
	_ site.Keeper   = (*Site)(nil)
	_ site.Carrier  = (*Site)(nil)
	_ site.Joiner   = (*Site)(nil)
	_ site.Doors    = (*Site)(nil)
	_ site.Screens  = (*Site)(nil)
	_ site.Firmer   = (*Site)(nil)
	_ site.Differ   = (*Site)(nil)
	_ site.Sweeper  = (*Site)(nil)
	_ site.Measurer = (*Site)(nil)
)

// New makes the site of a maker of machines.
func New(o Options) *Site {
	if o.Say == nil {
		o.Say = func(string, ...any) {}
	}
	if o.System == "" {
		o.System = "this host, a machine for each workspace"
	}
	o.Engine.Alone, o.Engine.Shared, o.Engine.BuildAt = true, nil, nil
	// A machine of this host is reached by a port of its own, and a rented instance inside the TLS with
	// which it calls: nobody else reads or changes what passes.
	o.Engine.Private = true
	s := &Site{o: o, engines: map[string]*engine.Site{}, homes: map[string]string{}}
	if o.Folder != "" {
		s.marking.Folder = filepath.Join(o.Folder, "turns")
	}
	return s
}

// What a machine has more than its workspace may take: its engine works beside it.
const (
	ownMemory   = 384 << 20
	memorySteps = 256 << 20 // so that machines of nearly one size come from one template
)

// Kind tells what makes the machines.
func (s *Site) Kind() site.Kind { return s.o.Kind }

// Abilities are what a machine of one's own can.
func (s *Site) Abilities() site.Abilities {
	a := site.Abilities{Beside: s, Placer: s, Overseer: s, Aside: s, Keeper: s, Firmer: s, Carrier: s, Joiner: s, Doors: s, Differ: s, Sweeper: s, Measurer: s, Apart: true}
	if _, shows := s.o.Maker.(Screens); shows {
		a.Screens = s
	}
	return a
}

// Examine looks at what makes the machines, and whether there is an engine that pulls for them.
func (s *Site) Examine(ctx context.Context) (site.Facts, error) {
	f, err := s.o.Maker.Examine(ctx)
	if err != nil {
		return site.Facts{}, err
	}
	images, err := s.images()
	if err != nil {
		return site.Facts{}, err
	}
	architecture, err := images.Architecture(ctx)
	if err != nil {
		return site.Facts{}, err
	}
	facts := site.Facts{Architecture: architecture, Engine: f.What, System: s.o.System, Processors: f.Processors, MemoryBytes: f.Memory, DiskFreeBytes: f.DiskFree,
		Elsewhere: true, UserNamespaces: true} // root of a workspace is root of its machine alone
	for _, size := range f.Sizes {
		if size.Memory = size.Memory/memorySteps*memorySteps - ownMemory; size.Memory > 0 {
			facts.Sizes = append(facts.Sizes, size)
		}
	}
	return facts, nil
}

// engine gives the engine in a workspace's machine.
func (s *Site) engine(workspace string) (*engine.Site, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.engines[workspace]; e != nil {
		return e, nil
	}
	e, err := s.newEngine("the machine of "+workspace, func(ctx context.Context) (net.Conn, error) {
		conn, err := s.o.Maker.Dial(ctx, workspace, channel.ToEngine)
		if err != nil {
			return nil, err
		}
		return &bounded{Conn: conn}, nil
	}, func(ctx context.Context, id string) (net.Conn, error) {
		if err := JudgeID(id); err != nil {
			return nil, err
		}
		return s.o.Maker.Dial(ctx, workspace, channel.ToAgent+" "+id)
	})
	if err == nil {
		s.engines[workspace] = e
	}
	return e, err
}

func (s *Site) newEngine(name string, dial func(ctx context.Context) (net.Conn, error), agent func(ctx context.Context, id string) (net.Conn, error)) (*engine.Site, error) {
	o := s.o.Engine
	o.Name, o.Dial, o.Agent = name, dial, agent
	var e *engine.Site
	o.Fetch = func(ctx context.Context, image judge.Image, progress func(string)) error {
		return s.fetch(ctx, e, image, progress)
	}
	e, err := engine.New(o)
	return e, err
}

// awake gives the engine in a workspace's machine, which runs then. A machine whose engine does not
// answer is turned off, and boots: whoever is root in it may have ended its engine.
func (s *Site) awake(ctx context.Context, workspace string) (*engine.Site, error) {
	if _, err := s.o.Maker.Start(ctx, workspace); err != nil {
		return nil, err
	}
	if err := s.engineAnswers(ctx, workspace); err != nil {
		if ctx.Err() != nil {
			return nil, err
		}
		s.o.Say("the engine in the machine of %s does not answer, it is turned off and boots: %v", workspace, err)
		site.Tell(ctx, "the engine in the machine does not answer: it is turned off, and boots")
		if err := s.o.Maker.Stop(ctx, workspace); err != nil {
			return nil, err
		}
		if _, err := s.o.Maker.Start(ctx, workspace); err != nil {
			return nil, err
		}
	}
	return s.engine(workspace)
}

// engineLimit is how long an engine has to answer in a machine that runs: it may just be started
// again there.
const engineLimit = time.Minute

// engineAnswers waits until the engine in a machine answers.
func (s *Site) engineAnswers(ctx context.Context, workspace string) (err error) {
	over := time.Now().Add(engineLimit)
	for {
		asked, done := context.WithTimeout(ctx, pingLimit)
		var stream net.Conn
		if stream, err = s.o.Maker.Dial(asked, workspace, channel.ToEngine); err == nil {
			err = ping(asked, stream)
		}
		done()
		if err == nil || ctx.Err() != nil || time.Now().After(over) {
			return err
		}
		select {
		case <-time.After(engineEvery):
		case <-ctx.Done():
		}
	}
}

// engineEvery is how often an engine is asked that does not answer.
const engineEvery = 500 * time.Millisecond

// mark is what is kept with a machine, so that it need not be asked.
type mark struct {
	Digest  string `json:"digest,omitempty"` // of the workspace's container
	Running bool   `json:"running,omitempty"`
	// Services are the names of those beside it.
	Services []string `json:"services,omitempty"`
	// Helpers are those in the machine, by their ids.
	Helpers map[string]*helperMark `json:"helpers,omitempty"`
}

type helperMark struct {
	Digest  string `json:"digest,omitempty"`
	Running bool   `json:"running,omitempty"`
}

func readMark(m Machine) (v mark) {
	_ = json.Unmarshal([]byte(m.Mark), &v) // none: nothing was made in it yet
	return v
}

func (s *Site) mark(ctx context.Context, workspace string, v mark) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return s.o.Maker.Mark(ctx, workspace, string(b))
}

// EnsureVolume makes the volume in the workspace's machine. Where that is not made yet, the volume
// comes with it.
func (s *Site) EnsureVolume(ctx context.Context, workspace string) (bool, error) {
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil || !found {
		return err == nil, err
	}
	e, err := s.awake(ctx, m.ID)
	if err != nil {
		return false, err
	}
	return e.EnsureVolume(ctx, workspace)
}

// EnsureInstance makes the machine, brings the image into it, and makes the container there.
func (s *Site) EnsureInstance(ctx context.Context, workspace string, judged plan.Judged[plan.Container]) error {
	c := judged.Value()
	if c.HelperOf != "" {
		return s.ensureHelper(ctx, workspace, judged)
	}
	e, err := s.place(ctx, workspace, c, nil)
	if err != nil {
		return err
	}
	if err := s.bring(ctx, e, c.Saved); err != nil {
		return err
	}
	if _, err := e.EnsureVolume(ctx, workspace); err != nil {
		return err
	}
	if err := e.EnsureInstance(ctx, workspace, judged); err != nil {
		return err
	}
	return s.change(ctx, workspace, func(v *mark) { v.Digest, v.Running = c.Digest, false })
}

// shape is that of a machine for a container: what the container may take, and what the engine
// takes beside it; of the host's memory at most half, unless the definition needs more, and
// nothing that the host has not.
func (s *Site) shape(c plan.Container, host Facts) Shape {
	shape, most := s.o.Usual, host.Most
	shape.Screen = c.Screen
	if most == 0 {
		most = host.Memory / shareOfMemory
	}
	if c.Memory > 0 {
		shape.Memory = withEngine(min(c.Memory, host.Memory))
	}
	shape.Memory = max(min(shape.Memory, most), withEngine(c.LeastMemory))
	if c.CPUs > 0 {
		shape.Processors = int(math.Ceil(min(c.CPUs, float64(host.Processors))))
	}
	shape.Processors = min(shape.Processors, host.Processors)
	return shape
}

// shareOfMemory is the part of the host's memory that one machine has at most.
const shareOfMemory = 2

func withEngine(memory int64) int64 {
	return (memory + ownMemory + memorySteps - 1) / memorySteps * memorySteps
}

// Start wakes the machine, and starts the container where it does not run.
func (s *Site) Start(ctx context.Context, workspace string) error {
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil {
		return err
	}
	if !found {
		m.ID = workspace // of which it is told that it is gone
	}
	if err := s.reopen(ctx, m.ID); err != nil {
		return err
	}
	e, err := s.awake(ctx, m.ID)
	if fault.Code(err) == "machine-gone" {
		return fault.Wrap(err, "workspace-gone", "provision the workspace again", "the workspace's machine is gone from the site")
	}
	if err != nil {
		return err
	}
	if err := e.Start(ctx, workspace); err != nil {
		return err
	}
	if m.ID != workspace {
		return s.changeHelper(ctx, m.ID, workspace, func(v *helperMark) { v.Running = true })
	}
	return s.marked(ctx, workspace, true)
}

// marked notes whether the container runs.
func (s *Site) marked(ctx context.Context, workspace string, running bool) error {
	return s.change(ctx, workspace, func(v *mark) { v.Running = running })
}

// change changes what is kept with a machine, where it is there.
func (s *Site) change(ctx context.Context, workspace string, how func(*mark)) error {
	return s.marking.Take(ctx, workspace, func() error {
		m, found, err := s.o.Maker.Find(ctx, workspace)
		if err != nil || !found {
			return err
		}
		v := readMark(m)
		how(&v)
		return s.mark(ctx, workspace, v)
	})
}

// Remove removes the workspace's machine, or a helper from it.
func (s *Site) Remove(ctx context.Context, workspace string) error {
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil {
		return err
	}
	if found && m.ID != workspace {
		return s.removeHelper(ctx, m, workspace)
	}
	if err := s.o.Maker.Remove(ctx, workspace); err != nil {
		return err
	}
	if err := s.closeOutlet(ctx, workspace); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.engines, workspace)
	maps.DeleteFunc(s.homes, func(_, machine string) bool { return machine == workspace })
	return nil
}

// Connect opens a stream to the agent in the workspace's container.
func (s *Site) Connect(ctx context.Context, workspace string) (net.Conn, error) {
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, fault.Transient(nil, "workspace-gone", "", "the workspace's machine is not there")
	}
	e, err := s.engine(m.ID)
	if err != nil {
		return nil, err
	}
	return e.Connect(ctx, workspace)
}
