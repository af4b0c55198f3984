// Package cloud is a stand-in for a provider of rented instances, by the contract of
// api/provider.yaml: an account with a key in a region, sizes with prices, a quota, a bill; Accounts
// are several of them. What it changes is shown late, as at large providers, and faults can be ordered
// for single calls. What instances are is somebody else's: virtual machines of this host (Machines),
// or nothing at all.
package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"sync"
	"time"

	"domicile/internal/site/machine/cloud/provider"
)

// Computers are what instances are. Every method can be called again.
type Computers interface {
	// Make makes a computer, has it run, and gives it its first-boot data.
	// Its second disk begins as the file disk is; empty: it is empty.
	Make(ctx context.Context, id string, size provider.Size, disk, first string) error
	Start(ctx context.Context, id string) error
	Stop(ctx context.Context, id string) error
	Remove(ctx context.Context, id string) error
}

// Options say what the stand-in offers.
type Options struct {
	Region   string
	Key      string // of the account
	Currency string
	Sizes    []provider.Size
	Quota    int
	// Lag is how long what was changed is shown as it was.
	Lag       time.Duration
	Computers Computers
	// File keeps the instances; empty: they are forgotten.
	File string
	// Disks is the folder of the account's disks; empty: none are kept.
	Disks string
}

// image is the only one.
const image = "domicile"

// instance is an instance with its past.
type instance struct {
	Now    provider.Instance `json:"now"`
	Before *provider.Instance
	Shown  time.Time `json:"shown"` // from when on it is shown as it is
	Spans  []span    `json:"spans"`
	First  string    `json:"first"`
	Disk   string    `json:"disk,omitempty"`

	done chan struct{} // closed when what goes on with it is over; nil: nothing does
}

// span is a time in which an instance costs something.
type span struct {
	From time.Time  `json:"from"`
	To   *time.Time `json:"to,omitempty"`
	Hour int64      `json:"hour"`
}

// spent is what an instance has cost until a moment.
func (i *instance) spent(now time.Time) (sum int64) {
	for _, s := range i.Spans {
		to := now
		if s.To != nil {
			to = *s.To
		}
		sum += s.Hour * to.Sub(s.From).Milliseconds() / time.Hour.Milliseconds()
	}
	return sum
}

// cost begins a time at another price; negative: it costs nothing any more.
func (i *instance) cost(now time.Time, hour int64) {
	if n := len(i.Spans); n > 0 && i.Spans[n-1].To == nil {
		i.Spans[n-1].To = &now
	}
	if hour >= 0 {
		i.Spans = append(i.Spans, span{From: now, Hour: hour})
	}
}

// Cloud is the stand-in.
type Cloud struct {
	o     Options
	ctx   context.Context
	leave context.CancelFunc
	parts sync.WaitGroup

	mu     sync.Mutex
	list   []*instance // by their ids
	faults []Fault
}

// New makes the stand-in, with the instances that its file has.
func New(o Options) (*Cloud, error) {
	c := &Cloud{o: o}
	c.ctx, c.leave = context.WithCancel(context.Background())
	if o.File == "" {
		return c, nil
	}
	b, err := os.ReadFile(o.File)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &c.list)
	}
	if err != nil {
		return nil, fmt.Errorf("read the instances of the stand-in: %w", err)
	}
	for _, i := range c.list { // what was under way goes on
		switch i.Now.State {
		case provider.Pending:
			c.goOn(i, provider.Running, c.making(i))
		case provider.Stopping:
			c.goOn(i, provider.Stopped, c.o.Computers.Stop)
		case provider.Running: // what they were connected to went with the stand-in of before
			c.goOn(i, provider.Running, c.again)
		}
	}
	return c, nil
}

// Close leaves the instances, which go on.
func (c *Cloud) Close() {
	c.leave()
	c.parts.Wait()
}

// keep writes the instances down. The lock is held.
func (c *Cloud) keep() error {
	if c.o.File == "" {
		return nil
	}
	b, err := json.Marshal(c.list)
	if err != nil {
		return err
	}
	if err := os.WriteFile(c.o.File+".new", b, 0o600); err != nil {
		return err
	}
	return os.Rename(c.o.File+".new", c.o.File)
}

// set changes how an instance is. The lock is held.
func (c *Cloud) set(i *instance, state provider.InstanceState, reason string) error {
	now, hour := time.Now(), int64(-1)
	size := c.size(i.Now.Size)
	switch state {
	case provider.Running, provider.Stopping:
		hour = size.Hour
	case provider.Stopped:
		hour = 0
		if size.HourOff != nil {
			hour = *size.HourOff
		}
	}
	before := c.shown(i, now)
	i.Before, i.Shown = before, now.Add(c.o.Lag)
	i.Now.State, i.Now.Reason = state, nil
	if reason != "" {
		i.Now.Reason = &reason
	}
	i.cost(now, hour)
	return c.keep()
}

// shown is how an instance is shown; nil: not at all.
func (c *Cloud) shown(i *instance, now time.Time) *provider.Instance {
	v := i.Now
	if now.Before(i.Shown) {
		if i.Before == nil {
			return nil
		}
		v = *i.Before
	}
	v.Spent = i.spent(now)
	return &v
}

func (c *Cloud) size(name string) provider.Size {
	i := slices.IndexFunc(c.o.Sizes, func(s provider.Size) bool { return s.Name == name })
	if i < 0 {
		return provider.Size{}
	}
	return c.o.Sizes[i]
}

// there tells whether an instance counts still.
func there(i *instance) bool { return i.Now.State != provider.Gone && i.Now.State != provider.Failed }

// goOn does something with an instance's computer, and then has it in a state. The lock is held,
// or nobody else has the stand-in.
func (c *Cloud) goOn(i *instance, state provider.InstanceState, do func(ctx context.Context, id string) error) {
	before, done := i.done, make(chan struct{})
	i.done = done
	c.parts.Go(func() {
		defer close(done)
		if before != nil {
			<-before // one thing at a time
		}
		err := do(c.ctx, i.Now.Id)
		if c.ctx.Err() != nil {
			return // it goes on at the next start
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		if !there(i) {
			return
		}
		if err != nil {
			_ = c.set(i, provider.Failed, err.Error()) // its file cannot be written: then it is tried again at the next start
			return
		}
		if i.Now.State != state {
			_ = c.set(i, state, "")
		}
	})
}

func (c *Cloud) making(i *instance) func(ctx context.Context, id string) error {
	disk := ""
	if i.Disk != "" {
		disk = c.diskFile(i.Disk)
	}
	return func(ctx context.Context, id string) error {
		return c.o.Computers.Make(ctx, id, c.size(i.Now.Size), disk, i.First)
	}
}

// again has a computer stop and start.
func (c *Cloud) again(ctx context.Context, id string) error {
	if err := c.o.Computers.Stop(ctx, id); err != nil {
		return err
	}
	return c.o.Computers.Start(ctx, id)
}

// end ends an instance for good. The lock is held.
func (c *Cloud) end(i *instance, reason string) error {
	if err := c.set(i, provider.Gone, reason); err != nil {
		return err
	}
	c.goOn(i, provider.Gone, c.o.Computers.Remove)
	return nil
}

// nextID gives an id that none had before. The lock is held.
func (c *Cloud) nextID() string {
	last := 0
	if n := len(c.list); n > 0 {
		last, _ = strconv.Atoi(c.list[n-1].Now.Id[1:]) // ours are numbers
	}
	return "i" + strconv.Itoa(last+1)
}

// TakeAway ends an instance without notice, as providers do. It is an error where there is none.
func (c *Cloud) TakeAway(id string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	i := c.find(id)
	if i == nil || !there(i) {
		return fmt.Errorf("there is no instance %q", id)
	}
	return c.end(i, "the provider needed its place")
}

func (c *Cloud) find(id string) *instance {
	for _, i := range c.list {
		if i.Now.Id == id {
			return i
		}
	}
	return nil
}
