//go:build linux && !client

package main

import (
	"context"
	"domicile/internal/forwarded"
	"domicile/internal/listen"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"golang.org/x/sys/unix"

	"domicile/internal/apart"
	"domicile/internal/api"
	"domicile/internal/artifact"
	"domicile/internal/compose"
	"domicile/internal/credential"
	"domicile/internal/definition"
	"domicile/internal/egress"
	"domicile/internal/fault"
	"domicile/internal/gateway"
	"domicile/internal/guesses"
	"domicile/internal/hostkeys"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	runs "domicile/internal/run"
	"domicile/internal/site/engine"
	"domicile/internal/source"
	"domicile/internal/vault"
	"domicile/web"
)

// agentsBeside gives the agents' binaries: that for this machine has a plain name, those for
// others carry their architecture behind it.
func agentsBeside(own string) func(architecture string) string {
	return func(architecture string) string {
		if architecture == runtime.GOARCH {
			return own
		}
		return own + "-" + architecture
	}
}

func besideMe(name string) string {
	me, err := os.Executable()
	if err != nil {
		return name
	}
	return filepath.Join(filepath.Dir(me), name)
}

func serve(ctx context.Context, t *terminal, s *settings) error {
	level := slog.LevelInfo
	if s.verbose {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(t.err, &slog.HandlerOptions{Level: level}))
	if err := s.find(); err != nil {
		return err
	}
	if s.restore != "" {
		if err := s.bringBack(ctx, t, log); err != nil {
			return err
		}
	}
	g, err := s.stand(ctx, log)
	if err != nil {
		return err
	}
	defer g.leave(log)
	// Listening comes before the work: two services with one address must not both work on the data.
	web, err := listenBy(&net.ListenConfig{Control: listen.StallLimit(stallLimit)}, s.http, "-http")
	if err != nil {
		return err
	}
	defer web.Close()
	shell, err := listenAt(s.ssh, "-ssh")
	if err != nil {
		return err
	}
	defer shell.Close()
	var calls *listen.Listener
	if s.home != "" {
		if calls, err = listenWithOthers(s.home, "-home"); err != nil {
			return err
		}
		defer calls.Close()
		if s.homeAddress == "" {
			s.homeAddress = calls.Addr().String()
		}
	}
	if s.url == "" {
		s.url = "http://" + web.Addr().String()
	}
	serving := func() error {
		if calls != nil && calls.Err() != nil {
			return fmt.Errorf("accept calls of instances: %w", calls.Err())
		}
		if err := shell.Err(); err != nil {
			return fmt.Errorf("accept SSH connections: %w", err)
		}
		return nil
	}
	a, err := assemble(ctx, s, g, log, shell.Addr(), serving)
	if err != nil {
		return err
	}
	defer a.store.Close()
	if err := warnOfClock(ctx, a, log); err != nil {
		return err
	}
	if err := a.welcome(ctx, t, g.folder.Path, s.url); err != nil {
		return err
	}
	log.Info("serving", "http", web.Addr().String(), "ssh", shell.Addr().String(), "version", version)
	return a.serve(ctx, web, shell, calls, log)
}

func listenAt(address, flagName string) (*listen.Listener, error) {
	return listenBy(&net.ListenConfig{}, address, flagName)
}

// listenWithOthers listens where other services of this user listen, too: who comes gets to one of
// them, and when that ends, to another.
func listenWithOthers(address, flagName string) (*listen.Listener, error) {
	return listenBy(&net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var set error
		err := c.Control(func(fd uintptr) { set = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEPORT, 1) })
		return errors.Join(err, set)
	}}, address, flagName)
}

// listenBy listens; the listener waits out a shortage, such as one of file descriptors.
func listenBy(config *net.ListenConfig, address, flagName string) (*listen.Listener, error) {
	l, err := config.Listen(context.Background(), "tcp", address)
	if err != nil {
		return nil, fault.Wrap(err, "cannot-listen", "stop what listens there, or choose another address with "+flagName, "cannot listen on %s", address)
	}
	return listen.Patient(l), nil
}

// assembly is the service put together.
type assembly struct {
	store   *records.Store
	runner  *runs.Runner
	gateway *gateway.Server
	api     *api.Server
	rented  *rented
	proxies forwarded.Proxies
	serving func() error // reports why a listener does not accept
	code    string
}

func assemble(ctx context.Context, s *settings, g *ground, log *slog.Logger, sshAt net.Addr, serving func() error) (*assembly, error) {
	data := g.folder.Path
	keys, err := hostkeys.Open(data)
	if err != nil {
		return nil, err
	}
	store, err := records.OpenWith(ctx, records.Opening{URL: g.url, Workers: s.workers, Before: g.beforeMigration(log)})
	if code := fault.Code(err); code == "database-newer" || code == "no-data-folder" {
		return nil, err
	}
	if err != nil {
		return nil, fault.Wrap(err, "no-database", "start PostgreSQL, or name another database with -database", "cannot open the database")
	}
	a := &assembly{store: store, serving: serving, code: os.Getenv("DOMICILE_SETUP_CODE")}
	if a.code == "" {
		a.code = credential.NewToken()
	}
	if err := a.build(ctx, s, log, data, keys, sshAt); err != nil {
		store.Close()
		return nil, err
	}
	return a, nil
}

func (a *assembly) build(ctx context.Context, s *settings, log *slog.Logger, data string, hostKeys *hostkeys.Folder, sshAt net.Addr) error {
	installation, err := a.store.Installation(ctx, credential.NewName())
	if err != nil {
		return fmt.Errorf("read the installation's name: %w", err)
	}
	// By it whoever takes the service away for good finds what an engine has of it.
	its, text := filepath.Join(data, "installation"), installation+"\n"
	if was, err := os.ReadFile(its); err != nil || string(was) != text {
		if err := os.WriteFile(its, []byte(text), 0o644); err != nil {
			return fmt.Errorf("write the installation's name: %w", err)
		}
	}
	if a.proxies, err = s.trustedProxies(); err != nil {
		return err
	}
	outside, err := judge.ParseOutside(s.outside)
	if err != nil {
		return err
	}
	gate := &egress.Gate{Outside: outside}
	if err := gate.Start(ctx, log); err != nil {
		return err
	}
	dial, err := writeDialler(data, gate.Proxy())
	if err != nil {
		return err
	}
	example := filepath.Join(data, "example")
	fetcher := &source.Fetcher{Folder: data, Gate: gate, Dial: dial, Allowed: []string{example}}
	for folder := range strings.SplitSeq(s.folders, ",") {
		if folder != "" {
			fetcher.Allowed = append(fetcher.Allowed, folder)
		}
	}
	seal, err := credential.OpenSeal(data)
	if err != nil {
		return err
	}
	registries := &api.Registries{Store: a.store, Seal: seal}
	artifacts := &artifact.Store{Folder: filepath.Join(data, "artifacts"), Keychain: authn.NewMultiKeychain(registries, authn.DefaultKeychain), Transport: gate.Transport(), HTTP: &http.Client{Transport: gate.Transport(), Timeout: 2 * time.Minute}}
	keys, err := credential.NewKeys(seal)
	if err != nil {
		return err
	}
	given, err := s.given()
	if err != nil {
		return err
	}
	if _, err := a.store.GiveSites(ctx, given); err != nil {
		return fmt.Errorf("keep the sites: %w", err)
	}
	a.rented = newRented(s.homeAddress, installation, filepath.Join(data, "lines"), a.store, seal)
	places := &opener{data: data, log: log, rented: a.rented, first: given[0].Name, key: keys.Hosts(), common: engine.Options{Installation: installation, Trials: &sync.Mutex{}, Agents: agentsBeside(s.agent), Secret: seal.Derive("names"), ServiceKey: keys.ServicePublic(),
		Youngest: max(s.youngest, 1), Keychain: artifacts.Keychain, MayAsk: gate.Check, HTTP: &http.Client{Transport: gate.Transport()}}}
	policy, err := runs.ParsePolicy(s.allow)
	if err != nil {
		return wrongUse("-allow: %v; it knows %s", err, strings.Join(judge.Allowances, ", "))
	}
	sizes, err := plan.ParseSizes(s.sizes)
	if err != nil {
		return err
	}
	if _, err := plan.ChooseSize(sizes, s.size); err != nil {
		return err
	}
	reserve, err := definition.ParseAmount(strings.ToLower(s.reserve))
	if err != nil {
		return wrongUse("-disk-reserve %q is no amount: write it as 2gb", s.reserve)
	}
	reader, kept := compose.Reader{}, ""
	var read runs.DefinitionReader // nil: in this process
	if readers, err := apart.Start(readerProgram()); err == nil {
		reader.Elsewhere, read, artifacts.Unpack = readers.Compose, readers.Definition, readers.Unpack
		context.AfterFunc(ctx, readers.Close)
	} else {
		kept = "untrusted text is read in the service's own process: " + err.Error()
	}
	if !gate.Apart() {
		kept = strings.TrimPrefix(kept+"; git works in the network of this host", "; ")
	}
	if kept != "" {
		log.Warn("not everything is kept apart that should be (docs/trust.md)", "what", kept)
	}
	vault := &vault.Vault{Store: a.store, Seal: seal}
	retention := records.UsualRetention
	retention.Runs = s.keepRuns
	a.runner, err = runs.New(ctx, runs.Options{Store: a.store, Open: places.open, Given: names(given), Source: fetcher, Artifacts: artifacts, Compose: reader, Definition: read, Policy: policy, Vault: vault, Keys: keys, DiskReserve: reserve, KeepImages: s.keepImages,
		Sizes: sizes, Size: s.size, IdleStop: s.idleStop, LookEvery: s.lookEvery, Retention: retention, Log: log, Workers: s.workers, Tries: s.tries})
	if err != nil {
		return err
	}
	a.gateway = &gateway.Server{Directory: a.store, Reacher: a.runner, HostKeys: hostKeys.Now, Log: log, Attached: a.runner.Attached}
	reachedAt := s.address
	if reachedAt == "" {
		reachedAt = sshAt.String()
	}
	slow := guesses.New()
	webAddresses, err := s.webAddresses(ctx, a, seal, slow, log)
	if err != nil {
		return err
	}
	a.api = api.New(ctx, api.Options{Store: a.store, Runner: a.runner, Gateway: a.gateway, Source: fetcher, Artifacts: artifacts, Registries: registries, Vault: vault, Hosts: hosts{keys.Hosts()}, Accounts: accounts{a.rented}, Templates: split(s.templates), Log: log, Version: version,
		SetupCode: a.code, SSH: reachedAt, HostKeys: hostKeys, Console: web.Handler(), Clients: &api.Clients{Folder: besideMe("clients")}, Example: example, MetricsToken: os.Getenv("DOMICILE_METRICS_TOKEN"), Apart: kept, Web: webAddresses, Guesses: slow, Proxies: a.proxies, Serving: a.serving})
	return nil
}

// readerProgram is the program that reads untrusted text: the small one beside this, which
// starts sooner, or this one itself.
func readerProgram() string {
	small := besideMe("domicile-reader")
	if info, err := os.Stat(small); err == nil && info.Mode().IsRegular() {
		return small
	}
	return apart.Self
}

// welcome prints the link for the first account while there is none.
func (a *assembly) welcome(ctx context.Context, t *terminal, data, at string) error {
	n, err := a.store.CountAccounts(ctx)
	if err != nil {
		return fmt.Errorf("count the accounts: %w", err)
	}
	kept := filepath.Join(data, firstLink)
	if n > 0 {
		if err := os.Remove(kept); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("remove the first link: %w", err)
		}
		return nil
	}
	link := strings.TrimRight(at, "/") + "/setup#" + a.code
	if err := os.WriteFile(kept, []byte(link+"\n"), 0o600); err != nil {
		return fmt.Errorf("keep the first link: %w", err)
	}
	fmt.Fprintf(t.out, "There is no account yet. To make the first one, open this link once:\n  %s\n", link)
	if _, terminal := fileOf(t.in); terminal && desktopFor(runtime.GOOS).screen() {
		go func() { _ = openPrivately(ctx, link) }() // it stands above
	}
	return nil
}

// firstLink is the file of the data folder with the link for the first account, for who started the
// service where its output is not seen. It is gone at the first start after that.
const firstLink = "first-link"

// shutdownLimit is how long requests have to end.
const shutdownLimit = 5 * time.Second

func (a *assembly) serve(ctx context.Context, web, shell, calls *listen.Listener, log *slog.Logger) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetUnencryptedHTTP2(true) // what gRPC speaks, also behind a proxy that does TLS
	server := &http.Server{Handler: a.api.Handler(), Protocols: protocols, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return ctx }, ConnContext: listen.ConnContext, ConnState: mayStallLater, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	var parts sync.WaitGroup
	part := func(f func() error) {
		parts.Go(func() {
			if err := f(); err != nil {
				cancel(err)
			}
		})
	}
	part(func() error { return a.runner.Serve(ctx) })
	part(func() error { return a.gateway.Serve(ctx, shell) })
	part(func() error { a.api.Serve(ctx); return nil })
	if calls != nil {
		context.AfterFunc(ctx, func() { calls.Close() })
		part(func() error { return a.rented.answer(ctx, calls, log) })
	}
	part(func() error {
		if err := server.Serve(httpNewcomers(a.proxies).Listener(web)); !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	})
	<-ctx.Done()
	log.Info("stopping")
	limit, done := context.WithTimeout(context.WithoutCancel(ctx), shutdownLimit)
	defer done()
	if err := server.Shutdown(limit); err != nil {
		server.Close()
	}
	parts.Wait()
	if err := context.Cause(ctx); !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}
