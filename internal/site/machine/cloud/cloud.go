// Package cloud makes machines by renting instances from a provider (package provider). What was
// ordered is written down before it is ordered, under a token of its own, and given back until the
// provider says that it is gone: so no order is doubled by an answer that does not come, and no
// instance is forgotten. Instances call the service (package callhome); no port of them is open.
package cloud

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud/provider"
)

// Provider is an account at a provider, in one region. A second order with the same token gives
// the instance of the first. Its errors are *fault.Fault; the code is instance-gone where there is
// no such instance.
type Provider interface {
	Offer(ctx context.Context) (provider.Offer, error)
	Create(ctx context.Context, o provider.Order) (provider.Instance, error)
	Instance(ctx context.Context, id string) (provider.Instance, error)
	Start(ctx context.Context, id string) error
	Stop(ctx context.Context, id string) error
	Delete(ctx context.Context, id string) error
	List(ctx context.Context, tag string) ([]provider.Instance, error)
	// The disks are asked for where the offer says that they are kept.
	Disks(ctx context.Context) ([]provider.Disk, error)
	PutDisk(ctx context.Context, name string, open func() (io.ReadCloser, error)) error
	DeleteDisk(ctx context.Context, name string) error
}

// Options say where instances are rented, and what is known of them.
type Options struct {
	Site         string // its name
	Installation string
	Place        string // the provider and the region, for people
	Provider     Provider
	Ledger       Ledger
	Lines        *Lines
	// Home is where instances reach the service, as host:port; Pin is what they know it by.
	Home string
	Pin  []byte
	// Secret is what the proofs of instances are derived from.
	Secret []byte
	// Folder is where disks are made before they are sent.
	Folder string
	// Settling is how long the provider may not show what was changed; 0: a minute.
	Settling time.Duration
	// Say tells of what a person who looks after the service should know; nil: nobody.
	Say func(format string, args ...any)
}

// Maker rents instances.
type Maker struct {
	o Options

	mu      sync.Mutex
	asked   time.Time // when the provider was last asked for its list
	list    map[string]provider.Instance
	missing map[string]time.Time // since when an instance is not listed
	strange []machine.Spare      // instances of ours that the ledger does not know
	turns   machine.Turns        // of the list, and of each disk

	leave context.CancelFunc
	parts sync.WaitGroup
}

var _ machine.Maker = (*Maker)(nil)

// New makes a maker of rented instances, which looks after them until Close.
func New(o Options) *Maker {
	if o.Say == nil {
		o.Say = func(string, ...any) {}
	}
	if o.Settling == 0 {
		o.Settling = time.Minute
	}
	ctx, leave := context.WithCancel(context.Background())
	m := &Maker{o: o, missing: map[string]time.Time{}, leave: leave}
	m.parts.Go(func() { m.lookAfter(ctx) })
	return m
}

// Close leaves the instances, which go on.
func (m *Maker) Close() {
	m.leave()
	m.parts.Wait()
}

// The tags of an instance.
const (
	tagSite      = "domicile" // the installation and the site
	tagWorkspace = "workspace"
)

func (m *Maker) ours() string { return m.o.Installation + "/" + m.o.Site }

// ErrNoHome is why nothing can be rented where instances have nobody to call.
var ErrNoHome = fault.New("no-home", "start the service with -home ADDRESS", "rented instances have no address at which they reach the service")

// Examine looks at what the provider offers.
func (m *Maker) Examine(ctx context.Context) (machine.Facts, error) {
	if m.o.Home == "" {
		return machine.Facts{}, ErrNoHome
	}
	offer, err := m.o.Provider.Offer(ctx)
	if err != nil {
		return machine.Facts{}, err
	}
	if _, err := image(offer); err != nil {
		return machine.Facts{}, err
	}
	f := machine.Facts{What: fmt.Sprintf("rented instances of %s, %d of %d taken", m.o.Place, offer.Quota.Used, offer.Quota.Instances)}
	for _, s := range sorted(offer) {
		f.Processors, f.Most = max(f.Processors, s.Processors), max(f.Most, s.MemoryBytes)
		f.Sizes = append(f.Sizes, sizeOf(s, offer))
	}
	f.Memory = f.Most
	return f, nil
}

// sizeOf is a size of an offer, with all the memory of its instances.
func sizeOf(s provider.Size, offer provider.Offer) plan.Size {
	return plan.Size{Name: s.Name, CPUs: float64(s.Processors), Memory: s.MemoryBytes, Price: plan.Price{Hour: s.Hour, Currency: offer.Currency}}
}

// sorted are the sizes of an offer, the cheapest first.
func sorted(offer provider.Offer) []provider.Size {
	return slices.SortedStableFunc(slices.Values(offer.Sizes), func(a, b provider.Size) int {
		return cmp.Or(cmp.Compare(a.Hour, b.Hour), cmp.Compare(a.MemoryBytes, b.MemoryBytes))
	})
}

// image is the image of an offer that has our first process.
func image(offer provider.Offer) (string, error) {
	for _, i := range offer.Images {
		if i.FirstProcess != nil && *i.FirstProcess {
			return i.Name, nil
		}
	}
	return "", fault.New("no-machine-image", "give it one (docs/provider.md)", "the provider has no image that begins with Domicile's first process")
}

// fits is the size of an offer for a shape: the very one, else the cheapest that holds it.
func fits(offer provider.Offer, shape machine.Shape) (provider.Size, error) {
	list := sorted(offer)
	for _, exact := range []bool{true, false} {
		for _, s := range list {
			if exact && s.Processors == shape.Processors && s.MemoryBytes == shape.Memory || !exact && s.Processors >= shape.Processors && s.MemoryBytes >= shape.Memory {
				return s, nil
			}
		}
	}
	return provider.Size{}, fault.New("no-size", "choose a smaller one, or another site", "the provider has no size with %d processors and %d MB of memory", shape.Processors, shape.Memory>>20)
}

// Find looks for the instance of a workspace.
func (m *Maker) Find(ctx context.Context, id string) (machine.Machine, bool, error) {
	r, found, err := m.of(ctx, id)
	if err != nil || !found {
		return machine.Machine{}, false, err
	}
	return m.machine(ctx, r)
}

// machine is what a rental is now. One whose instance is gone is given back, and is none.
func (m *Maker) machine(ctx context.Context, r Rental) (machine.Machine, bool, error) {
	out := machine.Machine{ID: r.Workspace, State: machine.Off, Mark: r.Mark}
	if r.Instance == "" {
		return out, true, nil // it is being ordered
	}
	i, listed, err := m.listed(ctx, r)
	if err != nil {
		return out, false, err
	}
	switch {
	case !listed: // it was ordered a moment ago
	case over(i):
		return out, false, m.lost(ctx, r, i)
	case i.State == provider.Running:
		out.State = machine.Running
	}
	return out, true, nil
}

// over tells whether an instance is none any more.
func over(i provider.Instance) bool { return i.State == provider.Gone || i.State == provider.Failed }

// lost gives up a rental whose instance is gone.
func (m *Maker) lost(ctx context.Context, r Rental, i provider.Instance) error {
	why := "the provider has it no more"
	if i.Reason != nil {
		why = fmt.Sprintf("the provider says %q", *i.Reason)
	}
	m.o.Say("the instance %s of %s is gone: %s", r.Instance, r.Workspace, why)
	m.o.Lines.drop(r.Token)
	m.seen(r.Instance)
	return m.o.Ledger.Leave(ctx, r.Token, why)
}

// List lists the instances that are rented for workspaces.
func (m *Maker) List(ctx context.Context) (list []machine.Machine, err error) {
	rentals, err := m.o.Ledger.Rentals(ctx, m.o.Site)
	if err != nil {
		return nil, err
	}
	for _, r := range rentals {
		if r.Leaving {
			continue
		}
		v, there, err := m.machine(ctx, r)
		if err != nil {
			return nil, err
		}
		if there {
			list = append(list, v)
		}
	}
	return list, nil
}

// Mark keeps a mark with an instance.
func (m *Maker) Mark(ctx context.Context, id, mark string) error {
	r, err := m.rental(ctx, id)
	if err != nil {
		return err
	}
	return m.o.Ledger.Mark(ctx, r.Token, mark)
}

// of looks for the rental of a workspace.
func (m *Maker) of(ctx context.Context, id string) (Rental, bool, error) {
	if err := machine.JudgeID(id); err != nil {
		return Rental{}, false, err
	}
	return m.o.Ledger.Rental(ctx, m.o.Site, id)
}

// rental is that of a workspace.
func (m *Maker) rental(ctx context.Context, id string) (Rental, error) {
	r, found, err := m.of(ctx, id)
	if err == nil && !found {
		err = fault.New("machine-gone", "provision the workspace again", "no instance is rented for the workspace %s", id)
	}
	return r, err
}

// Spares are instances of this site that the ledger does not know, which may be older than they,
// and disks with which no instance that is there began.
func (m *Maker) Spares(ctx context.Context) ([]machine.Spare, error) {
	m.mu.Lock()
	list := slices.Clone(m.strange)
	m.mu.Unlock()
	disks, err := m.unused(ctx)
	return append(list, disks...), err
}

// RemoveSpare ends an instance that the ledger does not know, or forgets a disk.
func (m *Maker) RemoveSpare(ctx context.Context, name string) error {
	list, err := m.Spares(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(s machine.Spare) bool { return s.Name == name }) {
		return nil
	}
	if strings.HasPrefix(name, m.diskPrefix()) {
		return gone(m.o.Provider.DeleteDisk(ctx, name))
	}
	return gone(m.o.Provider.Delete(ctx, name))
}

// gone is an error that is none where what is to be ended is not there.
func gone(err error) error {
	if fault.Code(err) == "instance-gone" {
		return nil
	}
	return err
}

// Dial opens a stream into an instance that has called.
func (m *Maker) Dial(ctx context.Context, id, to string) (net.Conn, error) {
	r, err := m.rental(ctx, id)
	if err != nil {
		return nil, err
	}
	line := m.o.Lines.get(r.Token)
	if line == nil {
		return nil, fault.Transient(nil, "machine-silent", "try again in a minute: one that runs calls within half a minute, also after the service has begun anew", "the rented instance has not called")
	}
	return line.Dial(ctx, to)
}

// Suspend is nothing that every provider can.
func (m *Maker) Suspend(context.Context, string) error { return machine.ErrForgets }
