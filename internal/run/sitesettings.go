package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// ownSettings are what a site has of its own in place of the service's settings; nil: it has the
// service's.
type ownSettings struct {
	Allow *judge.Policy `json:"allow,omitempty"`
	Sizes *[]plan.Size  `json:"sizes,omitempty"`
	Size  *string       `json:"size,omitempty"`
	Most  int           `json:"most,omitempty"`
	// Copies is the rule for copies of its workspaces; nil: none are kept.
	Copies *copies `json:"copies,omitempty"`
}

// The words that stand for no setting of a site's own, and for one that is empty.
const (
	asService = "service"
	asNone    = "none"
)

// SiteSettings are the settings that count at a site.
type SiteSettings struct {
	Allow  judge.Policy
	Sizes  []plan.Size
	Given  judge.Policy // what is allowed beyond, because each workspace has a machine of its own
	Size   string       // of a workspace that asks for none; empty: no limits
	Most   int          // how many workspaces may run there at a time; 0: as many as there is room for
	Copies string       // the rule for copies of its workspaces, as EVERY@SITE; empty: none are kept
	Own    []string     // those that the site has of its own, by their names
}

// SettingsAt gives the settings that count at a site; those of the service where it is not
// known.
func (r *Runner) SettingsAt(site string) SiteSettings {
	s := SiteSettings{Allow: r.o.Policy, Sizes: r.o.Sizes, Size: r.o.Size}
	at, _ := r.places.find(site)
	if at.can.Apart {
		s.Given = judge.GivenAlone
	}
	if at.own.Allow != nil {
		s.Allow, s.Own = *at.own.Allow, append(s.Own, "allow")
	}
	if at.own.Sizes != nil {
		s.Sizes, s.Own = *at.own.Sizes, append(s.Own, "sizes")
	}
	if at.own.Size != nil {
		s.Size, s.Own = *at.own.Size, append(s.Own, "size")
	}
	if at.own.Most > 0 {
		s.Most, s.Own = at.own.Most, append(s.Own, "most")
	}
	if at.own.Copies != nil {
		s.Copies, s.Own = at.own.Copies.String(), append(s.Own, "copies")
	}
	if offered := r.Examined(site).Sizes; len(offered) > 0 { // it has these, whatever anybody wishes
		s.Sizes, s.Own = offered, slices.DeleteFunc(s.Own, func(name string) bool { return name == "sizes" })
		if !slices.ContainsFunc(offered, func(v plan.Size) bool { return v.Name == s.Size }) {
			s.Size = offered[0].Name
		}
	}
	return s
}

// readOwn reads what a record has of settings.
func readOwn(v records.Site) (own ownSettings, err error) {
	if len(v.Settings) > 0 {
		if err = json.Unmarshal(v.Settings, &own); err != nil {
			err = fmt.Errorf("read the settings of the site %s: %w", v.Name, err)
		}
	}
	return own, err
}

// Change is what is to be another at a site; nil stays, the word service gives the service's.
type Change struct {
	Allow, Sizes, Size, Most, Copies *string
}

// ChangeSite changes what a site has of its own in place of the service's settings. It counts
// for what is planned from now on.
func (r *Runner) ChangeSite(ctx context.Context, name string, c Change) error {
	if _, err := r.place(name); err != nil {
		return err
	}
	sizes := r.o.Sizes
	if offered := r.Examined(name).Sizes; len(offered) > 0 {
		if c.Sizes != nil && *c.Sizes != asService {
			return fault.New("site-cannot", "leave out the sizes: domicile sites lists those that are offered", "the sizes of the site %s are those that its provider has", name)
		}
		sizes = offered
	}
	err := r.o.Store.ChangeSite(ctx, name, func(now json.RawMessage) (json.RawMessage, error) {
		own, err := readOwn(records.Site{Name: name, Settings: now})
		if err == nil {
			err = c.apply(&own, sizes, usualOf(sizes, r.o.Size))
		}
		if err == nil && c.Copies != nil && own.Copies != nil {
			err = r.judgeCopies(name, *own.Copies)
		}
		if err != nil {
			return nil, err
		}
		return json.Marshal(own)
	})
	if errors.Is(err, records.ErrNotFound) {
		return fault.New("site-in-use", "start the service with it: domicile serve -engine", "the site %s is none that the records have", name)
	}
	if err != nil {
		return fmt.Errorf("change the site %s: %w", name, err)
	}
	return r.changed(ctx)
}

// usualOf is the size of who asks for none, where it is among the sizes.
func usualOf(sizes []plan.Size, size string) string {
	if slices.ContainsFunc(sizes, func(v plan.Size) bool { return v.Name == size }) {
		return size
	}
	return ""
}

// apply makes the change, and refuses settings that do not go together; sizes and size are the
// service's.
func (c Change) apply(own *ownSettings, sizes []plan.Size, size string) error {
	if c.Allow != nil {
		own.Allow = nil
		if *c.Allow != asService {
			policy, err := ParsePolicy(*c.Allow)
			if err != nil {
				return err
			}
			own.Allow = &policy
		}
	}
	if c.Sizes != nil {
		own.Sizes = nil
		if *c.Sizes != asService {
			list, err := plan.ParseSizes(*c.Sizes)
			if err != nil {
				return err
			}
			own.Sizes = &list
		}
	}
	if c.Size != nil {
		own.Size = nil
		if *c.Size != asService {
			named := *c.Size
			if named == asNone {
				named = ""
			}
			own.Size = &named
		}
	}
	if c.Most != nil {
		own.Most = 0
		if *c.Most != asService && *c.Most != asNone {
			n, err := strconv.Atoi(*c.Most)
			if err != nil || n < 1 {
				return fault.New("bad-limit", "give a number of workspaces from 1 on, or none", "%q is no number of workspaces", *c.Most)
			}
			own.Most = n
		}
	}
	if c.Copies != nil {
		own.Copies = nil
		if *c.Copies != asService && *c.Copies != asNone {
			rule, err := parseCopies(*c.Copies)
			if err != nil {
				return err
			}
			own.Copies = &rule
		}
	}
	if own.Sizes != nil {
		sizes = *own.Sizes
	}
	if own.Size != nil {
		size = *own.Size
	}
	_, err := plan.ChooseSize(sizes, size)
	return err
}

// ParsePolicy reads what definitions may ask for, with commas between; none is nothing.
func ParsePolicy(text string) (judge.Policy, error) {
	list := judge.Policy{}
	for word := range strings.SplitSeq(text, ",") {
		if word = strings.TrimSpace(word); word == "" || word == asNone {
			continue
		}
		if !slices.Contains(judge.Allowances, word) {
			return nil, fault.New("bad-policy", "choose among "+strings.Join(judge.Allowances, ", "), "%q is nothing that could be allowed", word)
		}
		list = append(list, word)
	}
	return list, nil
}
