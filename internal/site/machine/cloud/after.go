package cloud

import (
	"context"
	"time"

	"domicile/internal/fault"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud/provider"
)

const (
	// fresh is how long a list of the provider counts.
	fresh = 5 * time.Second
	// afterEvery is how often it is looked after what was ordered and given back.
	afterEvery = 20 * time.Second
)

// instances is the provider's list, by ids, of a moment ago. One asks for it at a time.
func (m *Maker) instances(ctx context.Context) (list map[string]provider.Instance, err error) {
	err = m.turns.Take(ctx, "the list", func() error {
		m.mu.Lock()
		current := m.list != nil && time.Since(m.asked) < fresh
		list = m.list
		m.mu.Unlock()
		if !current {
			list, err = m.askList(ctx)
		}
		return err
	})
	return list, err
}

func (m *Maker) askList(ctx context.Context) (map[string]provider.Instance, error) {
	asked := time.Now()
	all, err := m.o.Provider.List(ctx, tagSite+"="+m.ours())
	if err != nil {
		return nil, err
	}
	list := map[string]provider.Instance{}
	for _, i := range all {
		if i.Tags[tagSite] == m.ours() { // whatever else it lists is not ours
			list[i.Id] = i
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.list, m.asked = list, asked
	return list, nil
}

// forgetList has the provider asked again.
func (m *Maker) forgetList() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.list = nil
}

// listed finds the instance of a rental in the list. One that is not in it is asked for by its id,
// and counts as gone when it was not found for longer than the provider may need to show it.
func (m *Maker) listed(ctx context.Context, r Rental) (i provider.Instance, found bool, err error) {
	list, err := m.instances(ctx)
	if err != nil {
		return i, false, err
	}
	i, found = list[r.Instance]
	if found && i.Token == r.Token {
		m.seen(r.Instance)
		return i, true, nil
	}
	i, err = m.look(ctx, r)
	switch {
	case err == nil:
		return i, true, nil
	case fault.Code(err) != "instance-gone":
		return i, false, err
	case m.settled(r.Instance):
		return provider.Instance{Id: r.Instance, State: provider.Gone}, true, nil
	}
	return i, false, nil
}

// seen forgets that an instance was not found: it is, or nobody looks for it any more.
func (m *Maker) seen(instance string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.missing, instance)
}

// settled tells that an instance which is not found is gone: it was not found for longer than the
// provider may need to show it. When it was ordered says nothing: an order may be made long after
// it was written down.
func (m *Maker) settled(instance string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	since, known := m.missing[instance]
	if !known {
		since = time.Now()
		m.missing[instance] = since
	}
	return time.Since(since) >= m.o.Settling
}

// lookAfter gives back what is to be given back, until ctx ends.
func (m *Maker) lookAfter(ctx context.Context) {
	for ctx.Err() == nil {
		if err := m.Sweep(ctx); err != nil && ctx.Err() == nil && !fault.IsTransient(err) {
			m.o.Say("look after the instances: %v", err)
		}
		select {
		case <-time.After(afterEvery):
		case <-ctx.Done():
		}
	}
}

// Sweep gives back what is to be given back, notes what everything has cost, and finds instances
// that nobody knows.
func (m *Maker) Sweep(ctx context.Context) error {
	rentals, err := m.o.Ledger.Rentals(ctx, m.o.Site)
	if err != nil {
		return err
	}
	var last error
	for _, r := range rentals {
		if r.Leaving {
			if err := m.giveBack(ctx, r); err != nil {
				last = err
			}
		}
	}
	m.forgetList()
	list, err := m.instances(ctx)
	if err != nil {
		return err
	}
	var strange []machine.Spare
	for _, i := range list {
		r, known, err := m.o.Ledger.ByToken(ctx, i.Token)
		switch {
		case err != nil:
			return err
		case known && r.Spent != i.Spent:
			if err := m.o.Ledger.Spend(ctx, i.Token, i.Spent); err != nil {
				return err
			}
		}
		switch {
		case over(i):
		case known && r.Ended != nil:
			// It was said to be gone and is not, or another came of the same order.
			if err := gone(m.o.Provider.Delete(ctx, i.Id)); err != nil {
				last = err
			}
		case !known && time.Since(i.Created) > m.o.Settling:
			strange = append(strange, machine.Spare{Name: i.Id, Why: "the records do not know this instance of the workspace " + i.Tags[tagWorkspace] + " (they may be older than it)", Used: i.Created})
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.strange = strange
	return last
}

// giveBack ends the instance of a rental for good. One whose answer never came is asked for by its
// order: then the provider says which it is, or makes it, so that it can be ended.
func (m *Maker) giveBack(ctx context.Context, r Rental) error {
	if r.Instance == "" {
		offer, err := m.o.Provider.Offer(ctx)
		if err != nil {
			return err
		}
		i, err := m.create(ctx, r, offer)
		if refused(err) {
			return m.o.Ledger.End(ctx, r.Token) // then none came of it
		}
		if err != nil {
			return err
		}
		if err := m.placed(ctx, r, i.Id); err != nil {
			return err
		}
		r.Instance = i.Id
	}
	if _, err := m.look(ctx, r); err != nil && fault.Code(err) != "instance-gone" { // never another one's
		return err
	}
	err := m.o.Provider.Delete(ctx, r.Instance)
	if fault.Code(err) == "instance-gone" && !m.settled(r.Instance) {
		return err // it is not shown yet: later
	}
	if gone(err) != nil {
		return err
	}
	i, err := m.look(ctx, r)
	switch {
	case fault.Code(err) == "instance-gone": // it is longer gone than it is told of
	case err != nil:
		return err
	case !over(i):
		return fault.Transient(nil, "machine-not-ended", "", "the instance %s is to be gone and is %s", r.Instance, i.State)
	default:
		if err := m.o.Ledger.Spend(ctx, r.Token, i.Spent); err != nil {
			return err
		}
	}
	m.seen(r.Instance)
	return m.o.Ledger.End(ctx, r.Token)
}
