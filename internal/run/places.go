package run

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site"
)

// sitesEvery is how often the sites of the records are looked at: another replica may have
// changed them.
const sitesEvery = 5 * time.Second

// places are the sites that the service knows.
type places struct {
	mu     sync.RWMutex
	byName map[string]place
}

// placesOf are these sites, of which some take nothing new.
func placesOf(sites map[string]site.Site, drained []string) *places {
	p := &places{byName: map[string]place{}}
	for name, s := range sites {
		p.put(place{name: name, Site: s, drained: slices.Contains(drained, name)})
	}
	return p
}

// put adds a place, or opens it anew: who looks after the earlier one is told.
func (p *places) put(at place) {
	at.can, at.gone = site.Can(at.Site), make(chan struct{})
	p.mu.Lock()
	defer p.mu.Unlock()
	p.leave(at.name)
	p.byName[at.name] = at
}

func (p *places) find(name string) (place, bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	at, known := p.byName[name]
	return at, known
}

// all lists them by name.
func (p *places) all() []place {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return slices.SortedFunc(maps.Values(p.byName), func(a, b place) int { return cmp.Compare(a.name, b.name) })
}

// change changes a place that is known.
func (p *places) change(name string, f func(*place)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if at, known := p.byName[name]; known {
		f(&at)
		p.byName[name] = at
	}
}

// learn asks a site again what it can: it may not have known before it was examined.
func (p *places) learn(name string) {
	p.change(name, func(at *place) { at.can = site.Can(at.Site) })
}

func (p *places) remove(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.leave(name)
	delete(p.byName, name)
}

// leave ends what goes on at a place. The lock is held.
func (p *places) leave(name string) {
	at, known := p.byName[name]
	if !known {
		return
	}
	close(at.gone)
	if at.close != nil {
		at.close()
	}
}

// readSites brings the places in step with the records: sites that were added are opened, those
// whose address or key is another are opened anew, and those that were removed are left.
func (r *Runner) readSites(ctx context.Context) error {
	if r.o.Open == nil {
		return nil
	}
	r.reading.Lock()
	defer r.reading.Unlock()
	list, err := r.o.Store.Sites(ctx)
	if err != nil {
		return fmt.Errorf("read the sites: %w", err)
	}
	var wrong error
	for _, v := range list {
		at, known := r.places.find(v.Name)
		own, err := readOwn(v)
		if err != nil {
			r.o.Log.Warn("a site has the service's settings", "site", v.Name, "error", err)
		}
		if known && at.record.Address == v.Address && at.record.HostKey == v.HostKey && at.record.Through == v.Through && bytes.Equal(at.record.Secret, v.Secret) {
			r.places.change(v.Name, func(at *place) { at.drained, at.record, at.own = v.Drained, v, own })
			continue
		}
		s, leave, err := r.o.Open(v)
		switch {
		case err != nil && slices.Contains(r.o.Given, v.Name):
			wrong = errors.Join(wrong, fmt.Errorf("open the site %s: %w", v.Name, err))
			continue
		case err != nil:
			r.o.Log.Warn("open a site", "site", v.Name, "error", err) // the others go on without it
			continue
		}
		r.places.put(place{name: v.Name, Site: s, drained: v.Drained, record: v, own: own, close: leave})
		r.forgetFacts(v.Name)
	}
	for _, at := range r.places.all() {
		if !slices.ContainsFunc(list, func(v records.Site) bool { return v.Name == at.name }) {
			r.places.remove(at.name)
			r.forgetFacts(at.name)
		}
	}
	return wrong
}

// forgetFacts forgets what was found at a site: what is there from now on is another one.
func (r *Runner) forgetFacts(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.facts, name)
}

// keepSites looks after all places, also those that come to be, until ctx ends.
func (r *Runner) keepSites(ctx context.Context, background *sync.WaitGroup) {
	watched := map[string]chan struct{}{}
	for ctx.Err() == nil {
		maps.DeleteFunc(watched, func(name string, _ chan struct{}) bool { _, known := r.places.find(name); return !known })
		for _, at := range r.places.all() {
			if watched[at.name] != at.gone {
				watched[at.name] = at.gone
				r.watch(ctx, at, background)
			}
		}
		select {
		case <-r.sitesChanged:
		case <-ctx.Done():
			return
		case <-time.After(sitesEvery):
		}
		if err := r.readSites(ctx); err != nil && ctx.Err() == nil && !records.Unavailable(err) {
			r.o.Log.Warn("keep up with the sites", "error", err)
		}
	}
}

// watch looks after one place until it is left.
func (r *Runner) watch(ctx context.Context, at place, background *sync.WaitGroup) {
	here, leave := context.WithCancel(ctx)
	background.Go(func() {
		defer leave()
		select {
		case <-at.gone:
		case <-ctx.Done():
		}
	})
	background.Go(func() { r.reconcile(here, at.name, at) })
	background.Go(func() { r.watchUse(here, at.name) })
	background.Go(func() { r.sweep(here, at.name) })
	background.Go(func() { r.keepCopies(here, at.name) })
	if m := at.can.Measurer; m != nil {
		background.Go(func() { r.watchDisk(here, at.name, m) })
	}
}

// changed brings the places in step with the records now, and whoever looks after them.
func (r *Runner) changed(ctx context.Context) error {
	err := r.readSites(ctx)
	select {
	case r.sitesChanged <- struct{}{}:
	default: // it is noticed already
	}
	return err
}

// AddSite adds a site. It is examined as soon as it answers.
func (r *Runner) AddSite(ctx context.Context, v records.Site) error {
	if err := CheckName(v.Name); err != nil {
		return err
	}
	_, err := r.o.Store.AddSite(ctx, v)
	if errors.Is(err, records.ErrTaken) {
		return fault.New("name-taken", "choose another name", "there is a site %s already", v.Name)
	}
	if err != nil {
		return fmt.Errorf("add the site %s: %w", v.Name, err)
	}
	return r.changed(ctx)
}

// DrainSite lets a site take nothing new, or something again.
func (r *Runner) DrainSite(ctx context.Context, name string, drained bool) error {
	at, err := r.place(name)
	if err != nil {
		return err
	}
	if at.record.Given && !slices.Contains(r.o.Given, name) && !drained {
		return fault.New("site-in-use", "name it in -engine or -machines and start the service again", "the service was not given the site %s at its last start", name)
	}
	if err := r.o.Store.DrainSite(ctx, name, drained); err != nil {
		return fmt.Errorf("drain the site %s: %w", name, err)
	}
	return r.changed(ctx)
}

// PinHost trusts another key of a site's host.
func (r *Runner) PinHost(ctx context.Context, name, key string) error {
	if err := r.o.Store.PinHost(ctx, name, key); err != nil {
		return fmt.Errorf("trust the host of %s: %w", name, err)
	}
	return r.changed(ctx)
}

// SetSiteSecret keeps another secret, sealed, of a site's account.
func (r *Runner) SetSiteSecret(ctx context.Context, name string, secret []byte) error {
	if err := r.o.Store.SetSiteSecret(ctx, name, secret); err != nil {
		return fmt.Errorf("change the key of the site %s: %w", name, err)
	}
	return r.changed(ctx)
}

// SiteRecord is the record of a site that is one of the records'.
func (r *Runner) SiteRecord(name string) (records.Site, error) {
	at, err := r.place(name)
	return at.record, err
}

// Look examines a site now, and keeps what was found.
func (r *Runner) Look(ctx context.Context, name string) (Examined, error) {
	at, err := r.place(name)
	if err != nil {
		return Examined{}, err
	}
	r.lookAt(ctx, name, at)
	return r.Examined(name), nil
}

// RemoveSite forgets a drained site at which nothing is any more.
func (r *Runner) RemoveSite(ctx context.Context, name string) error {
	at, err := r.place(name)
	if err != nil {
		return err
	}
	if !at.drained {
		if at.record.Given {
			return fault.New("site-in-use", "leave it out of -engine or -machines and start the service again; then it is drained", "the service was given the site %s at its start", name)
		}
		return fault.New("site-in-use", "domicile sites drain "+name, "the site %s takes workspaces", name)
	}
	err = r.o.Store.RemoveSite(ctx, name)
	if errors.Is(err, records.ErrBusy) {
		return fault.New("site-in-use", "remove the workspaces, snapshots and prepared sources that are there first; what is rented there is given back within a minute", "something is at the site %s still", name)
	}
	if err != nil {
		return fmt.Errorf("remove the site %s: %w", name, err)
	}
	if r.o.Open == nil {
		r.places.remove(name)
	}
	return r.changed(ctx)
}
