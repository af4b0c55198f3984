package api

import (
	"context"
	"regexp"
	"slices"
	"time"

	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/run"
	"domicile/internal/site"
)

// ChangeSite changes what a site has of its own in place of the service's settings.
func (s *Server) ChangeSite(ctx context.Context, q ChangeSiteRequestObject) (ChangeSiteResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	if q.Body.Key != nil {
		if err := s.changeKey(ctx, q.Name, *q.Body.Key); err != nil {
			return nil, err
		}
	}
	return ChangeSite204Response{}, s.o.Runner.ChangeSite(ctx, q.Name, run.Change{Allow: q.Body.Allow, Sizes: q.Body.Sizes, Size: q.Body.Size, Most: q.Body.Most, Copies: q.Body.Copies})
}

// slowFrom is how long an examination takes from which on a site is slow.
const slowFrom = 3 * time.Second

// describeSite tells the settings that count at a site, how it answers, and what is promised of
// it.
func (s *Server) describeSite(ctx context.Context, v *Site, found run.Examined) error {
	here := s.o.Runner.SettingsAt(v.Name)
	for _, size := range here.Sizes {
		v.Sizes = appendTo(v.Sizes, sizeView(size))
	}
	v.Size, v.Copies = optional(here.Size), optional(here.Copies)
	if here.Most > 0 {
		v.Most = &here.Most
	}
	if len(here.Allow) > 0 {
		v.Allow = new([]string(here.Allow))
	}
	v.Alone = whenTrue(len(here.Given) > 0)
	if len(here.Own) > 0 {
		v.Own = &here.Own
	}
	if !found.Since.IsZero() {
		v.Since = &found.Since
	}
	if found.Took > 0 {
		v.AnswerMillis = new(found.Took.Milliseconds())
		v.Slow = whenTrue(v.Ready && found.Took >= slowFrom)
	}
	for _, name := range found.Devices {
		if worthNaming.MatchString(name) && slices.Contains(here.Allow, judge.AllowDevices) {
			v.Devices = appendTo(v.Devices, name)
		}
	}
	if rented := v.Kind == SiteKind(site.Cloud); (rented || v.Kind == SiteKind(site.Remote)) && administrator(ctx) == nil {
		record, err := s.o.Runner.SiteRecord(v.Name)
		if err != nil {
			return err
		}
		v.Address, v.Through = &record.Address, optional(record.Through)
		if v.Spent, err = s.spent(ctx, v.Name, here.Sizes); err != nil {
			return err
		}
	}
	promised, unlimited, err := s.o.Runner.Promised(ctx, v.Name)
	if promised > 0 && len(found.Sizes) == 0 { // else each has what it rents
		v.PromisedBytes = &promised
	}
	if unlimited > 0 {
		v.Unlimited = &unlimited
	}
	return err
}

// worthNaming are devices that somebody connects to use them; others every host has.
var worthNaming = regexp.MustCompile(`^/dev/(tty(USB|ACM|AMA)[0-9]+|(i2c|spidev|gpiochip|video|hidraw|iio:device|media)[0-9.-]+|serial/by-id/.+|kvm|dri/(card|renderD)[0-9]+|snd/.+|net/tun)$`)

func sizeView(v plan.Size) Size {
	view := Size{Name: v.Name, Cpus: v.CPUs, MemoryBytes: v.Memory}
	view.Price = priceView(v.Price)
	return view
}

// priceView shows what something costs while it runs; nil for nothing.
func priceView(p plan.Price) *Price {
	if p.Hour == 0 {
		return nil
	}
	return &Price{PerHour: p.PerHour(), PerMonth: p.PerMonth(), Currency: p.Currency}
}
