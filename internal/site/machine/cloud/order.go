package cloud

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"time"

	"domicile/internal/callhome"
	"domicile/internal/fault"
	"domicile/internal/site"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud/provider"
)

// Ensure rents an instance for a workspace. What all of one base have to do is done once, in a
// disk that the provider keeps.
func (m *Maker) Ensure(ctx context.Context, id string, shape machine.Shape, prepare *machine.Prepare) error {
	r, found, err := m.of(ctx, id)
	if err != nil {
		return err
	}
	offer, err := m.o.Provider.Offer(ctx)
	if err != nil {
		return err
	}
	if found && r.Instance != "" {
		there, err := m.stays(ctx, r, offer, shape)
		if err != nil || there {
			return err
		}
		found = false
	}
	if !found {
		size, err := fits(offer, shape)
		if err != nil {
			return err
		}
		disk, err := m.disk(ctx, offer, shape, prepare)
		if err != nil {
			return err
		}
		r = Rental{Token: rand.Text(), Site: m.o.Site, Workspace: id, Size: size.Name, Disk: disk, Hour: size.Hour, Ordered: time.Now()}
		site.Tell(ctx, "ordering an instance of the size %s", sizeOf(size, offer))
		mine, err := m.o.Ledger.Order(ctx, r)
		if err != nil {
			return err
		}
		if !mine {
			return fault.Transient(nil, "busy", "", "an instance for the workspace %s is being ordered", id)
		}
	}
	return m.order(ctx, r, offer)
}

// stays tells whether the instance of a rental is there and as large as is wanted; one that is
// gone, or in which nothing was made, is given back.
func (m *Maker) stays(ctx context.Context, r Rental, offer provider.Offer, shape machine.Shape) (bool, error) {
	i, err := m.look(ctx, r)
	switch {
	case fault.Code(err) == "instance-gone" && !m.settled(r.Instance):
		return true, nil // the provider does not show it yet
	case fault.Code(err) == "instance-gone":
		return false, m.lost(ctx, r, i)
	case err != nil:
		return false, err
	case over(i):
		return false, m.lost(ctx, r, i)
	}
	for _, s := range offer.Sizes {
		if s.Name == r.Size && (s.Processors < shape.Processors || s.MemoryBytes < shape.Memory) {
			return false, fault.New("another-size", "provision another workspace with that size, or move this one away and back", "the instance of %s has the size %s, which stays as it is", r.Workspace, r.Size)
		}
	}
	return true, nil
}

// create makes the order of a rental, or finds what came of it, where it was made before.
func (m *Maker) create(ctx context.Context, r Rental, offer provider.Offer) (i provider.Instance, err error) {
	name, err := image(offer)
	if err != nil {
		return i, err
	}
	first, err := json.Marshal(callhome.FirstBoot{Home: m.o.Home, Pin: m.o.Pin, Token: r.Token, Proof: Proof(m.o.Secret, r.Token)})
	if err != nil {
		return i, err
	}
	o := provider.Order{Token: r.Token, Size: r.Size, Image: name, FirstBoot: string(first), Tags: map[string]string{tagSite: m.ours(), tagWorkspace: r.Workspace}}
	if r.Disk != "" {
		o.Disk = &r.Disk
	}
	return m.o.Provider.Create(ctx, o)
}

// order orders the instance of a rental, or finds it, where it was ordered before.
func (m *Maker) order(ctx context.Context, r Rental, offer provider.Offer) error {
	i, err := m.create(ctx, r, offer)
	if refused(err) { // so nothing came of it
		if endErr := m.o.Ledger.Leave(ctx, r.Token, err.Error()); endErr != nil {
			return endErr
		}
		if endErr := m.o.Ledger.End(ctx, r.Token); endErr != nil {
			return endErr
		}
		return err
	}
	if err != nil {
		return err
	}
	if err := m.placed(ctx, r, i.Id); err != nil {
		return err
	}
	if over(i) {
		r.Instance = i.Id
		if err := m.lost(ctx, r, i); err != nil {
			return err
		}
		return errFailed(r, i)
	}
	return nil
}

// placed notes that an instance came of an order, unless the provider says elsewhere that it is
// another one's. An order that has it by such a mistake gives it up.
func (m *Maker) placed(ctx context.Context, r Rental, id string) error {
	r.Instance = id
	if _, err := m.look(ctx, r); err != nil && fault.Code(err) != "instance-gone" { // it may not be shown yet
		return err
	}
	mine, err := m.o.Ledger.Place(ctx, r.Token, id)
	if err != nil || mine {
		return err
	}
	rentals, err := m.o.Ledger.Rentals(ctx, m.o.Site)
	if err != nil {
		return err
	}
	for _, other := range rentals {
		if other.Instance == id && other.Token != r.Token {
			if _, err := m.look(ctx, other); fault.Code(err) != "provider-nonsense" {
				return m.another(id)
			}
		}
	}
	if mine, err = m.o.Ledger.Place(ctx, r.Token, id); err == nil && !mine {
		err = m.another(id)
	}
	return err
}

// another is an answer that has an instance of another order.
func (m *Maker) another(id string) error {
	return fault.Transient(nil, "provider-nonsense", "ask the provider", "the provider at %s gives the instance %s for two orders", m.o.Place, id)
}

// look asks for the instance of a rental by its id. One that is another order's is not the
// rental's: which is, is not known then, and the order tells when it is made again.
func (m *Maker) look(ctx context.Context, r Rental) (provider.Instance, error) {
	i, err := m.o.Provider.Instance(ctx, r.Instance)
	if err != nil {
		return i, err
	}
	if i.Token == r.Token {
		m.seen(r.Instance)
		return i, nil
	}
	if _, err := m.o.Ledger.Place(ctx, r.Token, ""); err != nil {
		return i, err
	}
	return i, m.another(r.Instance)
}

// refused tells that an order was refused for good: no instance can come of it. A key that is not
// taken says nothing of what was ordered with it before.
func refused(err error) bool {
	switch fault.Code(err) {
	case "no-room", "provider-refused":
		return true
	}
	return false
}

func errFailed(r Rental, i provider.Instance) error {
	why := ""
	if i.Reason != nil {
		why = fmt.Sprintf(": the provider says %q", *i.Reason)
	}
	return fault.Transient(nil, "instance-failed", "try again, or choose another size or site", "the instance of the workspace %s did not come to run%s", r.Workspace, why)
}

// Proof is what an instance shows at its first call. It is derived, so that an order which is
// made again says the same.
func Proof(secret []byte, token string) []byte {
	h := hmac.New(sha256.New, secret)
	h.Write([]byte("proof of " + token))
	return h.Sum(nil)
}

const (
	// startLimit bounds how long an instance takes to run, to call, and to have its engine answer.
	startLimit = 10 * time.Minute
	// stopLimit bounds how long it takes to be off.
	stopLimit = 3 * time.Minute
	// waitEvery is how often the provider is asked meanwhile.
	waitEvery = 2 * time.Second
)

// known is the rental of a workspace with its instance: where that is not known, its order tells.
func (m *Maker) known(ctx context.Context, id string) (Rental, error) {
	r, err := m.rental(ctx, id)
	if err != nil || r.Instance != "" {
		return r, err
	}
	offer, err := m.o.Provider.Offer(ctx)
	if err == nil {
		err = m.order(ctx, r, offer)
	}
	if err != nil {
		return r, err
	}
	return m.rental(ctx, id)
}

// Start has an instance run, and waits until it has called and its engine answers.
func (m *Maker) Start(ctx context.Context, id string) (how string, err error) {
	r, err := m.known(ctx, id)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	how = "it ran"
	if line := m.o.Lines.get(r.Token); line != nil && answers(ctx, line) {
		return how, nil
	}
	asked, said := false, ""
	for {
		i, err := m.look(ctx, r)
		if fault.Code(err) == "provider-nonsense" { // it may have none any more
			if r, err = m.known(ctx, id); err != nil {
				return "", err
			}
			i, err = m.look(ctx, r)
		}
		if state := string(i.State); err == nil && state != said {
			site.Tell(ctx, "the instance %s is %s", r.Instance, state)
			said = state
		}
		switch {
		case fault.Code(err) == "instance-gone" && !m.settled(r.Instance):
		case fault.Code(err) == "instance-gone" || err == nil && over(i):
			if err := m.lost(ctx, r, i); err != nil {
				return "", err
			}
			if r.Mark == "" {
				return "", errFailed(r, i)
			}
			return "", fault.New("machine-gone", "provision the workspace again", "the instance of the workspace %s is gone at its provider", id)
		case err != nil && !fault.IsTransient(err):
			return "", err
		case err == nil && i.State == provider.Stopped && !asked:
			if err := m.o.Provider.Start(ctx, r.Instance); err != nil && !fault.IsTransient(err) {
				return "", err
			} else if err == nil {
				asked, how = true, "the provider started it"
			}
			m.forgetList()
		case err == nil && i.State == provider.Running:
			if line := m.o.Lines.get(r.Token); line != nil && answers(ctx, line) {
				m.forgetList()
				return how, nil
			}
		}
		if ctx.Err() == nil {
			m.o.Lines.wait(ctx, r.Token, waitEvery)
		}
		if ctx.Err() != nil {
			return "", fault.Transient(ctx.Err(), "machine-silent", "look at it at the provider: does it reach "+m.o.Home+"?", "the instance %s of the workspace %s does not call", r.Instance, id)
		}
	}
}

// answers tells whether the engine behind a line answers.
func answers(ctx context.Context, line machine.Line) bool { return machine.Ping(ctx, line) == nil }

// Stop turns an instance off, and waits until it is: from then on it costs its disk alone.
func (m *Maker) Stop(ctx context.Context, id string) error {
	r, err := m.rental(ctx, id)
	if err != nil || r.Instance == "" && r.Mark == "" { // nothing was made in it, and it may not be there
		return err
	}
	if r, err = m.known(ctx, id); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, stopLimit)
	defer cancel()
	defer m.forgetList()
	defer m.o.Lines.drop(r.Token)
	for asked := false; ; {
		i, err := m.look(ctx, r) // first: nobody stops another one's
		if !asked && (err == nil && !over(i) || fault.Code(err) == "instance-gone") {
			if err := m.o.Provider.Stop(ctx, r.Instance); gone(err) != nil {
				return err
			}
			asked = true
			continue
		}
		switch {
		case err == nil && i.State == provider.Stopped:
			return nil
		case fault.Code(err) == "instance-gone" && m.settled(r.Instance) || err == nil && over(i):
			return m.lost(ctx, r, i)
		case err == nil && i.State == provider.Running: // the provider has not heard, or forgot
			if err := m.o.Provider.Stop(ctx, r.Instance); err != nil && !fault.IsTransient(err) {
				return err
			}
		case err != nil && !fault.IsTransient(err) && fault.Code(err) != "instance-gone":
			return err
		}
		select {
		case <-time.After(waitEvery):
		case <-ctx.Done():
			return fault.Transient(ctx.Err(), "machine-not-ended", "look at it at the provider", "the instance %s of the workspace %s does not stop", r.Instance, id)
		}
	}
}

// Remove gives an instance back. Where the provider does not answer, that is done later: it is
// written down.
func (m *Maker) Remove(ctx context.Context, id string) error {
	r, found, err := m.of(ctx, id)
	if err != nil || !found {
		return err
	}
	m.o.Lines.drop(r.Token)
	m.seen(r.Instance)
	if err := m.o.Ledger.Leave(ctx, r.Token, "its workspace was removed"); err != nil {
		return err
	}
	defer m.forgetList()
	if err := m.giveBack(ctx, r); err != nil {
		m.o.Say("the instance of %s is given back later: %v", id, err)
	}
	return ctx.Err()
}
