//go:build linux && !client

package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"domicile/internal/records"
	runs "domicile/internal/run"
	"domicile/internal/site"
	"domicile/internal/site/engine"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm"
	"domicile/internal/site/remote"
)

// usualSite is the name of a site that is given none.
const usualSite = "this-host"

// machinesSite is the name of the site of -machines.
const machinesSite = "machines"

// usualMachine is a machine for a workspace without limits.
var usualMachine = machine.Shape{Processors: 2, Memory: 2 << 30, Disk: 32 << 30}

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
	if s.machines != "" {
		folder, err := filepath.Abs(s.machines)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(list, func(v records.Site) bool { return v.Name == machinesSite }) {
			return nil, wrongUse("-engine: the name %s is that of the site of -machines", machinesSite)
		}
		list = append(list, records.Site{Name: machinesSite, Kind: string(site.VM), Address: folder})
	}
	if len(list) == 0 {
		return nil, wrongUse("-engine is empty: the service needs a place for workspaces")
	}
	return list, nil
}

// names are those of sites.
func names(list []records.Site) (names []string) {
	for _, v := range list {
		names = append(names, v.Name)
	}
	return names
}

// opener opens the sites of the records.
type opener struct {
	data   string
	common engine.Options
	key    ssh.Signer // what hosts know the service by
	first  string     // the site whose engine builds for those that cannot
	rented *rented    // what sites of rented instances have in common
	log    *slog.Logger

	mu      sync.Mutex
	builder *engine.Site
}

// images is the engine that builds for sites that cannot; nil: there is none.
func (o *opener) images() *engine.Site {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.builder
}

// openMachines opens the site of this host's virtual machines. They go on when it is left.
func (o *opener) openMachines(v records.Site) (site.Site, func(), error) {
	say := func(format string, args ...any) { o.log.Info(fmt.Sprintf(format, args...), "site", v.Name) }
	outlet := func(ctx context.Context, id string) (*os.File, error) {
		at := o.images()
		if at == nil {
			return nil, nil
		}
		return at.Outlet(ctx, id)
	}
	maker, err := vm.New(vm.Options{Outlet: outlet, Folder: filepath.Join(o.data, "m"), Image: v.Address, Say: say})
	if err != nil {
		return nil, nil, err
	}
	return machine.New(machine.Options{Kind: site.VM, Maker: maker, Engine: o.common, Images: o.images, Say: say, Usual: usualMachine, Folder: filepath.Join(o.data, "disks")}), maker.Close, nil
}

// open opens a site: an engine of this machine, one that is reached by a stream, or one behind
// SSH.
func (o *opener) open(v records.Site) (site.Site, func(), error) {
	at := o.common
	at.Name = v.Address
	at.BuildAt = o.images
	var leave func()
	if v.Kind == string(site.Remote) {
		line, err := lineTo(v, o.key)
		if err != nil {
			return nil, nil, err
		}
		at.Dial, at.Private, leave = line.Dial, true, line.Close
		s, err := engine.New(at)
		if err != nil {
			return nil, nil, err
		}
		return remote.At(line, s), leave, nil
	}
	switch v.Kind {
	case string(site.VM):
		return o.openMachines(v)
	case string(site.Cloud):
		return o.openRented(v)
	}
	var near bool
	var err error
	if at.Dial, near, err = engine.Address(v.Address); err != nil {
		return nil, nil, err
	}
	at.Private = near
	if near {
		folder := o.data
		if v.Name != usualSite {
			folder = filepath.Join(o.data, "at-"+v.Name)
		}
		at.Shared = &engine.Shared{Sockets: filepath.Join(folder, "sockets"), Views: filepath.Join(folder, "views")}
	}
	s, err := engine.New(at)
	if err == nil && v.Name == o.first {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.builder = s
	}
	return s, leave, err
}
