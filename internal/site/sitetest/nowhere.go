package sitetest

import (
	"context"
	"sync"
	"time"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/site"
)

// Nowhere is a site that makes nothing. A test says what happens at which call; what is not
// said goes well. An instance's agent never answers: no run gets further than to start it.
type Nowhere struct {
	site.Site // what no test calls
	// Facts are what it has.
	Facts site.Facts

	mu    sync.Mutex
	calls []string
	at    map[string]func(ctx context.Context) error // by call
}

// When says what happens at a call, such as "volume" or "image quay.test/base:12".
func (p *Nowhere) When(call string, do func(ctx context.Context) error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at == nil {
		p.at = map[string]func(context.Context) error{}
	}
	p.at[call] = do
}

func (p *Nowhere) called(ctx context.Context, call string) error {
	p.mu.Lock()
	p.calls = append(p.calls, call)
	do := p.at[call]
	p.mu.Unlock()
	if do == nil {
		return nil
	}
	return do(ctx)
}

// Times tells how often a call came.
func (p *Nowhere) Times(call string) (n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.calls {
		if c == call {
			n++
		}
	}
	return n
}

// Kind is site.Site's.
func (p *Nowhere) Kind() site.Kind { return site.Engine }

// Examine is site.Site's.
func (p *Nowhere) Examine(ctx context.Context) (site.Facts, error) {
	return p.Facts, p.called(ctx, "examine")
}

// EnsureImage is site.Site's.
func (p *Nowhere) EnsureImage(ctx context.Context, image judge.Image, say func(string)) (site.Image, error) {
	reference := image.Name()
	say("pulling " + reference)
	return site.Image{ID: reference, Fetched: true}, p.called(ctx, "image "+reference)
}

// HasImage is site.Site's.
func (p *Nowhere) HasImage(ctx context.Context, image judge.Image) (bool, error) {
	return true, p.called(ctx, "has "+image.Name())
}

// EnsureVolume is site.Site's.
func (p *Nowhere) EnsureVolume(ctx context.Context, _ string) (bool, error) {
	return true, p.called(ctx, "volume")
}

// EnsureNetworks is site.Site's.
func (p *Nowhere) EnsureNetworks(ctx context.Context, _ string, _ plan.Judged[[]plan.Network]) error {
	return p.called(ctx, "networks")
}

// EnsureService is site.Site's.
func (p *Nowhere) EnsureService(ctx context.Context, _, _ string, v plan.Judged[plan.Service], _ string) error {
	return p.called(ctx, "service "+v.Value().Name)
}

// StartService is site.Site's.
func (p *Nowhere) StartService(ctx context.Context, _, service string) error {
	return p.called(ctx, "start "+service)
}

// Services is site.Site's.
func (p *Nowhere) Services(ctx context.Context, _ string) ([]site.Service, error) {
	return nil, p.called(ctx, "services")
}

// EnsureInstance is site.Site's.
func (p *Nowhere) EnsureInstance(ctx context.Context, _ string, _ plan.Judged[plan.Container]) error {
	return p.called(ctx, "instance")
}

// Start is site.Site's.
func (p *Nowhere) Start(ctx context.Context, _ string) error {
	if err := p.called(ctx, "start"); err != nil {
		return err
	}
	return errNoAgent
}

// Stop is site.Site's.
func (p *Nowhere) Stop(ctx context.Context, _ string, _ time.Duration, _ bool) error {
	return p.called(ctx, "stop")
}

// Remove is site.Site's.
func (p *Nowhere) Remove(ctx context.Context, _ string) error { return p.called(ctx, "remove") }

// Find is site.Site's.
func (p *Nowhere) Find(ctx context.Context, _ string) (site.Instance, bool, error) {
	return site.Instance{}, false, p.called(ctx, "find")
}

// List is site.Site's.
func (p *Nowhere) List(ctx context.Context) ([]site.Instance, error) {
	return nil, p.called(ctx, "list")
}

var errNoAgent = fault.New("no-agent", "", "there is no agent here")
