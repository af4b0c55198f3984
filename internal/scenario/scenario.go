// Package scenario brings up Skerry's small world on this machine: PostgreSQL, a container
// engine, an image registry, a git host with the demo's repositories, and Domicile's
// service as a process of its own. The demo and the tests stand on it.
package scenario

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"golang.org/x/sync/errgroup"

	"domicile/demo"
	"domicile/internal/baseimage"
	"domicile/internal/daemons"
	"domicile/internal/site/machine/vm/process"
	"domicile/internal/standin/githost"
	"domicile/internal/standin/registry"
)

// Options says where things lie and which ports are preferred.
type Options struct {
	Folder string // data of all servers; kept between starts
	Cache  string // where the base image is kept
	// Programs is the folder of domicile and domicile-agent.
	Programs string
	// OwnEngine starts an engine of our own also where the machine has one.
	OwnEngine bool
	// Host starts a second host over SSH, which AddHost makes a site.
	Host bool
	// Serve are more flags for the service.
	Serve []string
	// Outside are more addresses that the service may ask, beside those of the world itself.
	Outside []string
	// Preferred ports; where one is taken another is used. 0 means any.
	HTTP, SSH, Git, Registry int
	// Say tells what goes on.
	Say func(string)
}

// World is what was started.
type World struct {
	o          Options
	Postgres   *daemons.Postgres
	Engine     *daemons.Engine // nil: the machine's own is used
	EngineAt   string          // unix://…
	Registry   *registry.Registry
	RegistryAt string // host:port
	Git        *githost.Host
	GitAt      string   // http://host:port
	Image      v1.Image // skerry/base:12
	Database   v1.Image // skerry/postgres:15
	Service    *Service
	Provider   *daemons.Provider // nil: there is none
	servers    []*http.Server
	host       *host // nil: there is none
}

// Start starts all but the service. What was started when something fails is stopped.
func Start(ctx context.Context, o Options) (w *World, err error) {
	w = &World{o: o}
	defer func() {
		if err != nil {
			w.Close()
		}
	}()
	if o.Folder, err = filepath.Abs(o.Folder); err != nil {
		return w, err
	}
	if err := os.MkdirAll(o.Folder, 0o755); err != nil {
		return w, err
	}
	w.o = o
	// They do not depend on each other, and each takes a while.
	var all errgroup.Group
	all.Go(func() (err error) {
		o.Say("starting PostgreSQL")
		w.Postgres, err = daemons.StartPostgres(ctx, o.Folder)
		return err
	})
	all.Go(func() error { return w.startEngine(ctx) })
	if o.Host {
		all.Go(func() error { return w.startHost(ctx) })
	}
	all.Go(func() (err error) { w.Image, err = baseimage.Make(ctx, baseimage.Base, o.Cache, o.Say); return err })
	all.Go(func() (err error) {
		w.Database, err = baseimage.Make(ctx, baseimage.Postgres, o.Cache, o.Say)
		return err
	})
	if err := all.Wait(); err != nil {
		return w, err
	}
	if err := w.startRegistry(ctx); err != nil {
		return w, err
	}
	return w, w.startGit(ctx)
}

func (w *World) startEngine(ctx context.Context) (err error) {
	if !w.o.OwnEngine && daemons.EngineAnswers(ctx, daemons.UsualEngine) {
		w.o.Say("using the container engine of this machine")
		w.EngineAt = daemons.UsualEngine
		return nil
	}
	w.o.Say("starting a container engine")
	w.Engine, err = daemons.StartEngine(ctx, w.o.Folder)
	if err == nil {
		w.EngineAt = w.Engine.Host
	}
	return err
}

func (w *World) startRegistry(ctx context.Context) (err error) {
	w.o.Say("starting the image registry and filling it")
	if w.Registry, err = registry.New(filepath.Join(w.o.Folder, "registry")); err != nil {
		return err
	}
	if w.RegistryAt, err = w.listen(w.o.Registry, w.Registry); err != nil {
		return err
	}
	if err := baseimage.Push(ctx, w.Image, w.RegistryAt+"/skerry/base:12"); err != nil {
		return err
	}
	if err := baseimage.Push(ctx, w.Database, w.RegistryAt+"/skerry/postgres:15"); err != nil {
		return err
	}
	return w.publish(ctx)
}

func (w *World) startGit(ctx context.Context) (err error) {
	w.o.Say("starting the git host and filling it")
	if w.Git, err = githost.New(filepath.Join(w.o.Folder, "git")); err != nil {
		return err
	}
	at, err := w.listen(w.o.Git, w.Git)
	if err != nil {
		return err
	}
	w.GitAt = "http://" + at
	for _, name := range demo.Names {
		files, err := demo.Repository(name)
		if err != nil {
			return err
		}
		if err := w.Git.Put(ctx, "skerry/"+name, files, demo.Replace(w.RegistryAt)); err != nil {
			return fmt.Errorf("fill the git host: %w", err)
		}
	}
	return nil
}

// listen serves a handler on a port of loopback.
func (w *World) listen(preferred int, h http.Handler) (string, error) {
	port, err := daemons.FreePort(preferred)
	if err != nil {
		return "", err
	}
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	w.servers = append(w.servers, server)
	go func() { _ = server.Serve(l) }() // ends with Close
	return l.Addr().String(), nil
}

// Folder is where the data of all servers lies.
func (w *World) Folder() string { return w.o.Folder }

// Close stops all that was started.
func (w *World) Close() {
	if w.Service != nil {
		w.Service.Stop()
	}
	// Machines go on while their service is away: here it does not come back.
	if err := process.EndAll(context.Background(), filepath.Join(w.o.Folder, "service", "m")); err != nil {
		w.o.Say("end the virtual machines: " + err.Error())
	}
	if w.Provider != nil {
		if err := w.Provider.Stop(); err != nil {
			w.o.Say("end the rented instances: " + err.Error())
		}
	}
	for _, s := range w.servers {
		s.Close()
	}
	var all sync.WaitGroup
	if w.Engine != nil {
		all.Go(w.Engine.Close)
	}
	if w.host != nil {
		all.Go(w.host.stop)
	}
	if w.Postgres != nil {
		all.Go(w.Postgres.Stop)
	}
	all.Wait()
}
