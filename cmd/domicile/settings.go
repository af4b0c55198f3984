//go:build linux && !client

package main

import (
	"context"
	"flag"
	"strings"
	"time"

	"domicile/internal/client"
	"domicile/internal/judge"
	"domicile/internal/records"
)

// settings are the service's. Each is a flag, a variable DOMICILE_ and its name, and a key of the file
// of settings (settle).
type settings struct {
	http, ssh, url, webDomain, proxies, home, database, databaseFile, data, engine, machines, agent, folders, address, homeAddress, templates, allow, sizes, size, outside, reserve string
	config, restore                                                                                                                                                                 string
	workers, tries                                                                                                                                                                  int
	idleStop, lookEvery, youngest, keepRuns, keepImages                                                                                                                             time.Duration
	verbose, check                                                                                                                                                                  bool
}

var serveCommand = command{
	name: "serve", args: "[FLAGS]", summary: "Run the service; without flags it brings its own database and finds the engine",
	example: "domicile serve\ndomicile serve -check\ndomicile serve -config /etc/domicile.toml",
	alone:   true,
	setup: func(f *flag.FlagSet) action {
		s := &settings{}
		s.declare(f)
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			if err := s.settle(f); err != nil {
				return err
			}
			if s.check {
				return s.tell(ctx, t)
			}
			return serve(ctx, t, s)
		}
	},
}

// declare declares the flags.
func (s *settings) declare(f *flag.FlagSet) {
	text := func(p *string, name, fallback, use string) {
		f.StringVar(p, name, fallback, use+" ("+variableOf(name)+")")
	}
	text(&s.config, "config", "", "a file of settings, in TOML; default: "+usualConfig()+" where it is there")
	text(&s.http, "http", "127.0.0.1:4380", "where the console and the API listen")
	text(&s.url, "url", "", "the console's address as people reach it, such as https://domicile.skerry.test; default: where it listens")
	text(&s.webDomain, "web-domain", "", "the domain below which ports of workspaces get web addresses, one of its own that all names below lead here; default: localhost where people reach the console on loopback, else none")
	text(&s.proxies, "proxies", "", "addresses and networks of proxies that name the sender of a request (X-Forwarded-For, X-Forwarded-Proto), with commas between; loopback means this host; default: loopback if -url is https, else none")
	text(&s.ssh, "ssh", "127.0.0.1:4322", "where the SSH server listens")
	text(&s.home, "home", "", "where rented instances call the service, over TLS; empty: none can be rented")
	text(&s.homeAddress, "home-address", "", "that place's host:port as instances reach it; default: where it listens")
	text(&s.address, "ssh-address", "", "the SSH server's host:port as people reach it; default: where it listens")
	text(&s.database, "database", "", "the PostgreSQL database, such as postgres://domicile@db.skerry.test/domicile; default: one of its own in the data folder")
	text(&s.databaseFile, "database-file", "", "a file with the database's address in place of -database: every user of a machine sees the flags of its programs")
	text(&s.data, "data", usualData(), "the folder of keys, mirrors and sockets, and of the service's own database")
	text(&s.engine, "engine", "", "the container engine, or several as NAME=ADDRESS with commas between (unix:///PATH or tcp://HOST:PORT); default: the first of "+strings.Join(usualEngines(), ", ")+" that is there")
	text(&s.machines, "machines", "", "the folder with what virtual machines begin with (scripts/machine-image): then there is a site machines, where each workspace has one of its own")
	text(&s.agent, "agent", besideMe("domicile-agent"), "the agent's binary")
	text(&s.folders, "source-folders", "", "folders of this host that may be used as sources, with commas between")
	text(&s.templates, "templates", "", "namespaces of registries that hold the team's templates, with commas between")
	text(&s.allow, "allow", "", "what definitions may ask of the host, with commas between: "+strings.Join(judge.Allowances, ", "))
	text(&s.outside, "outside", "", "addresses of this host and of networks of its own that may be asked on behalf of people, such as git hosts and registries: names, addresses and ranges, with commas between")
	text(&s.reserve, "disk-reserve", "2gb", "how much of a site's disk stays free: the workspace that writes most is told from twice of it on, and stopped at it")
	text(&s.sizes, "sizes", "small=1:2gb,medium=2:4gb,large=4:8gb", "the sizes that a workspace may have: name=processors:memory, and :price an hour behind it where it costs something (small=1:2gb:0.02EUR), with commas between")
	text(&s.size, "size", "", "the size of a workspace that asks for none; default: no limits")
	f.StringVar(&s.restore, "restore", "", "a file that domicile backup wrote: the data folder, which must be empty, is filled from it first")
	f.DurationVar(&s.idleStop, "idle-stop", 4*time.Hour, "after how long without use a workspace stops by itself, unless its definition says so; 0: it does not")
	f.DurationVar(&s.lookEvery, "look-every", time.Minute, "how often the branches of prepared sources are looked at")
	f.DurationVar(&s.youngest, "tidy-after", 10*time.Minute, "how old something that nothing uses must be to be told as left over")
	f.DurationVar(&s.keepRuns, "keep-runs", records.UsualRetention.Runs, "how long runs that are over stay with their logs, beside the newest of each workspace; 0: for ever")
	f.DurationVar(&s.keepImages, "keep-images", 14*24*time.Hour, "how long an image stays that was built here, nothing uses, and would be built again; 0: until its site's disk is short")
	f.IntVar(&s.workers, "workers", 8, "how many runs are carried out at a time")
	f.IntVar(&s.tries, "tries", 7, "how often a step is tried whose fault may pass, such as a registry that does not answer")
	f.BoolVar(&s.verbose, "verbose", false, "log more")
	f.BoolVar(&s.check, "check", false, "read the settings, try all that they name, and tell what is wrong, without starting")
}
