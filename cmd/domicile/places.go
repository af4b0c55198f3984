package main

import (
	"path/filepath"
	"strings"

	runs "domicile/internal/run"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// usualSite is the name of a site that is given none.
const usualSite = "this-host"

// places makes the sites of the service: an engine each, as NAME=ADDRESS, or an address alone.
func (s *settings) places(data string, common engine.Options) (map[string]site.Site, error) {
	sites := map[string]site.Site{}
	for _, text := range split(s.engine) {
		name, address, named := strings.Cut(text, "=")
		if !named {
			name, address = usualSite, text
		}
		if err := runs.CheckName(name); err != nil || sites[name] != nil {
			return nil, wrongUse("-engine %q: a site needs a name of its own, of lower-case letters, digits and single hyphens", text)
		}
		o := common
		var near bool
		var err error
		if o.Dial, near, err = engine.Address(address); err != nil {
			return nil, err
		}
		o.Name = address
		if near {
			folder := data
			if named {
				folder = filepath.Join(data, "at-"+name)
			}
			o.Shared = &engine.Shared{Sockets: filepath.Join(folder, "sockets"), Doors: filepath.Join(folder, "doors"), Views: filepath.Join(folder, "views")}
		}
		if sites[name], err = engine.New(o); err != nil {
			return nil, err
		}
	}
	if len(sites) == 0 {
		return nil, wrongUse("-engine is empty: the service needs a place for workspaces")
	}
	return sites, nil
}
