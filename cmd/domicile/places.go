package main

import (
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"domicile/internal/records"
	runs "domicile/internal/run"
	"domicile/internal/site"
	"domicile/internal/site/engine"
	"domicile/internal/site/remote"
)

// usualSite is the name of a site that is given none.
const usualSite = "this-host"

// given are the sites that -engine names: an engine each, as NAME=ADDRESS, or an address alone.
func (s *settings) given() (list []records.Site, err error) {
	for _, text := range split(s.engine) {
		name, address, named := strings.Cut(text, "=")
		if !named {
			name, address = usualSite, text
		}
		if err := runs.CheckName(name); err != nil || slices.ContainsFunc(list, func(v records.Site) bool { return v.Name == name }) {
			return nil, wrongUse("-engine %q: a site needs a name of its own, of lower-case letters, digits and single hyphens", text)
		}
		list = append(list, records.Site{Name: name, Kind: string(site.Engine), Address: address})
	}
	if len(list) == 0 {
		return nil, wrongUse("-engine is empty: the service needs a place for workspaces")
	}
	return list, nil
}

// opener opens the sites of the records.
type opener struct {
	data   string
	common engine.Options
	key    ssh.Signer // what hosts know the service by
	first  string     // the site whose engine builds for those that cannot

	mu      sync.Mutex
	builder *engine.Site
}

// open opens a site: an engine of this machine, one that is reached by a stream, or one behind
// SSH.
func (o *opener) open(v records.Site) (site.Site, func(), error) {
	at := o.common
	at.Name = v.Address
	at.BuildAt = func() *engine.Site {
		o.mu.Lock()
		defer o.mu.Unlock()
		return o.builder
	}
	var leave func()
	if v.Kind == string(site.Remote) {
		to, err := remote.ParseAddress(v.Address)
		if err != nil {
			return nil, nil, err
		}
		line := remote.NewLine(to, o.key, v.HostKey)
		at.Dial, leave = line.Dial, line.Close
		s, err := engine.New(at)
		return remoteSite{s, line}, leave, err
	}
	var near bool
	var err error
	if at.Dial, near, err = engine.Address(v.Address); err != nil {
		return nil, nil, err
	}
	if near {
		folder := o.data
		if v.Name != usualSite {
			folder = filepath.Join(o.data, "at-"+v.Name)
		}
		at.Shared = &engine.Shared{Sockets: filepath.Join(folder, "sockets"), Doors: filepath.Join(folder, "doors"), Views: filepath.Join(folder, "views")}
	}
	s, err := engine.New(at)
	if err == nil && v.Name == o.first {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.builder = s
	}
	return s, leave, err
}

// remoteSite is an engine behind SSH.
type remoteSite struct {
	*engine.Site
	line *remote.Line
}

// Kind tells that it is one of another host.
func (remoteSite) Kind() site.Kind { return site.Remote }
