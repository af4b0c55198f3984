//go:build linux && !client

package main

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"domicile/internal/datafolder"
	"domicile/internal/example"
	"domicile/internal/fault"
	"domicile/internal/postgres"
)

// ground is what the service stands on: its data folder, and its database.
type ground struct {
	folder *datafolder.Folder
	own    *postgres.Server // nil: the database is another's
	url    string
	dumps  string
}

// stand claims the data folder, and starts the database where the service has one of its own.
func (s *settings) stand(ctx context.Context, log *slog.Logger) (*ground, error) {
	folder, err := datafolder.Claim(s.data, s.database == "")
	if err != nil {
		return nil, err
	}
	if err := wholeFolder(folder); err != nil {
		folder.Release()
		return nil, err
	}
	dropOldWork(folder.Path)
	g := &ground{folder: folder, url: s.database, dumps: filepath.Join(folder.Path, "dumps")}
	if g.url != "" {
		return g, nil
	}
	if g.own, err = openOwn(ctx, folder, log); err != nil {
		folder.Release()
		return nil, err
	}
	g.url = g.own.URL()
	return g, nil
}

// oldWork is how old what was left behind must be, until nobody can be at work on it.
const oldWork = 24 * time.Hour

// dropOldWork removes what was left behind by backups that were killed, in which there are records, and by
// a service that made the example then.
func dropOldWork(data string) {
	list, err := os.ReadDir(data)
	if err != nil {
		return // the next start looks again
	}
	for _, x := range list {
		if info, err := x.Info(); err == nil && x.IsDir() && (strings.HasPrefix(x.Name(), backupWork) || strings.HasPrefix(x.Name(), example.Work)) && time.Since(info.ModTime()) > oldWork {
			_ = os.RemoveAll(filepath.Join(data, x.Name()))
		}
	}
}

// openOwn starts the database of a data folder.
func openOwn(ctx context.Context, folder *datafolder.Folder, log *slog.Logger) (*postgres.Server, error) {
	owner, err := postgres.Owner()
	if err != nil {
		return nil, err
	}
	if c := owner.Credential; c != nil { // its files are in there
		if err := folder.LetPass(int(c.Gid)); err != nil {
			return nil, err
		}
	}
	return postgres.Open(ctx, ownDatabase(folder.Path), log)
}

// ownDatabase is where the service's own database is.
func ownDatabase(data string) string { return filepath.Join(data, "database") }

// leave ends the database and lets go of the folder.
func (g *ground) leave(log *slog.Logger) {
	if g.own != nil {
		if err := g.own.Close(); err != nil {
			log.Error("end the database", "error", err)
		}
	}
	g.folder.Release()
}

// dumpsKept is how many dumps stay that were taken before the records' schema was changed.
const dumpsKept = 5

// beforeMigration keeps the records as they are before their schema is changed. Whose database is
// another's keeps its own.
func (g *ground) beforeMigration(log *slog.Logger) func(ctx context.Context, from, to int64) error {
	if g.own == nil {
		return nil
	}
	return func(ctx context.Context, from, to int64) error {
		if err := os.MkdirAll(g.dumps, 0o700); err != nil {
			return fmt.Errorf("make a folder for dumps: %w", err)
		}
		file := filepath.Join(g.dumps, fmt.Sprintf("before-%04d-%s.dump", to, time.Now().UTC().Format("20060102-150405")))
		if err := g.own.Dump(ctx, file); err != nil {
			return fault.Wrap(err, "no-data-folder", "make room on the disk of the data folder", "the records are not changed without a dump of them")
		}
		log.Info("the records are kept as they were", "in", file, "version", from)
		list, err := filepath.Glob(filepath.Join(g.dumps, "before-*.dump"))
		if err != nil {
			return err
		}
		slices.SortFunc(list, func(a, b string) int { return cmp.Compare(dumpedAt(a), dumpedAt(b)) })
		for _, old := range list[:max(0, len(list)-dumpsKept)] {
			_ = os.Remove(old) // the next time is as good
		}
		return nil
	}
}

// dumpedAt is the moment in a dump's name.
func dumpedAt(file string) string {
	_, moment, _ := strings.Cut(strings.TrimPrefix(filepath.Base(file), "before-"), "-")
	return moment
}

// lack is a program that is not installed, and Debian's package that has it.
type lack struct{ what, pack string }

// find takes over what is found where it is not named, and tells all that is missing at once.
func (s *settings) find() error {
	var lacks []lack
	if s.database == "" {
		if _, err := postgres.Newest(); err != nil {
			lacks = append(lacks, lack{"PostgreSQL", "postgresql"})
		}
	}
	for _, program := range []lack{{"git", "git"}, {"ssh", "openssh-client"}, {"ip", "iproute2"}} {
		if _, err := exec.LookPath(program.what); err != nil {
			lacks = append(lacks, program)
		}
	}
	if s.engine == "" && s.machines == "" {
		address, closed := findEngine()
		switch {
		case address != "":
			s.engine = address
		case closed != "" && len(lacks) == 0:
			return fault.New("no-engine", "sudo adduser $USER "+groupOf(closed)+" and sign in again (who may use that socket has the rights of root here), or an engine of your own: sudo apt-get install podman && systemctl --user enable --now podman.socket",
				"the container engine at %s may not be used by this user", closed)
		case closed == "":
			lacks = append(lacks, lack{"a container engine", "docker.io"})
		}
	}
	if len(lacks) == 0 {
		return nil
	}
	var what, packages []string
	for _, l := range lacks {
		what, packages = append(what, l.what), append(packages, l.pack)
	}
	return fault.New("not-installed", "sudo apt-get install "+strings.Join(packages, " "), "this machine lacks what the service needs: %s", strings.Join(what, ", "))
}
