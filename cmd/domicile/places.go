package main

import (
	"path/filepath"
	"slices"
	"strings"

	"domicile/internal/records"
	runs "domicile/internal/run"
	"domicile/internal/site"
	"domicile/internal/site/engine"
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

// openSites opens the sites of the records, and tells which take nothing new. Images of one that
// cannot build them are built by the first that was given.
func openSites(list []records.Site, first, data string, common engine.Options) (sites map[string]site.Site, drained []string, err error) {
	sites = map[string]site.Site{}
	i := slices.IndexFunc(list, func(v records.Site) bool { return v.Name == first })
	list[0], list[i] = list[i], list[0]
	for _, v := range list {
		o := common
		var near bool
		if o.Dial, near, err = engine.Address(v.Address); err != nil {
			return nil, nil, err
		}
		o.Name = v.Address
		if near {
			folder := data
			if v.Name != usualSite {
				folder = filepath.Join(data, "at-"+v.Name)
			}
			o.Shared = &engine.Shared{Sockets: filepath.Join(folder, "sockets"), Doors: filepath.Join(folder, "doors"), Views: filepath.Join(folder, "views")}
		}
		s, err := engine.New(o)
		if err != nil {
			return nil, nil, err
		}
		if common.BuildAt == nil {
			common.BuildAt = s
		}
		if v.Drained {
			drained = append(drained, v.Name)
		}
		sites[v.Name] = s
	}
	return sites, drained, nil
}
