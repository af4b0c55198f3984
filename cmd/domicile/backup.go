//go:build linux && !client

package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/backup"
	"domicile/internal/client"
	"domicile/internal/datafolder"
	"domicile/internal/fault"
	"domicile/internal/postgres"
	"domicile/internal/records"
)

var backupCommand = command{
	name: "backup", args: "FILE [-config FILE] [-data FOLDER] [-database ADDRESS]", summary: "Put records, secrets and keys of this machine's service into a file (-: to standard output), while it runs or not",
	example: "domicile backup /root/domicile-2026-07-01.backup",
	takes:   []string{"FILE"},
	alone:   true,
	setup: func(f *flag.FlagSet) action {
		all := flag.NewFlagSet("serve", flag.ContinueOnError)
		s := &settings{}
		s.declare(all)
		for _, name := range []string{"config", "data", "database", "database-file"} {
			x := all.Lookup(name)
			f.Var(x.Value, x.Name, x.Usage)
		}
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			f.Visit(func(x *flag.Flag) { _ = all.Set(x.Name, x.Value.String()) }) // it was taken once already
			if err := s.settle(all); err != nil {
				return err
			}
			if args[0] == onto { // by this program itself, as the folder's owner
				return s.writeBackup(ctx, under(t.out))
			}
			return s.backUp(ctx, t, args[0])
		}
	},
}

// onto is in place of a file: the backup goes to standard output.
const onto = "-"

// backUp writes a backup of the service that the settings name into a file. What is in the data folder is
// read and written as its owner: root would follow what another user could put there.
func (s *settings) backUp(ctx context.Context, t *terminal, file string) error {
	data, err := filepath.Abs(s.data)
	if err != nil {
		return fmt.Errorf("find the data folder: %w", err)
	}
	if _, err := os.Lstat(filepath.Join(data, "secret.key")); err != nil {
		return fault.Wrap(err, "no-data-folder", "name the service's with -data, as its user or as root", "there are no keys of a service in %s", data)
	}
	user, group, err := datafolder.Owner(data)
	if err != nil {
		return err
	}
	write := func(w io.Writer) error { return s.writeBackup(ctx, w) }
	if os.Getuid() == 0 && user != 0 {
		write = func(w io.Writer) error {
			c := exec.CommandContext(ctx, "/proc/self/exe", "backup", onto, "-data", data, "-config", os.DevNull)
			c.Env = []string{"PATH=" + os.Getenv("PATH"), variableOf("database") + "=" + s.database} // nothing of root's own
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: group}, Pdeathsig: syscall.SIGTERM}
			c.Dir, c.Stdout, c.Stderr = "/", w, under(t.err)
			err := c.Run()
			var ended *exec.ExitError
			if errors.As(err, &ended) {
				return exitStatus(1) // it has told why
			}
			return err
		}
	}
	if err := backup.Into(file, write); err != nil {
		return err
	}
	fmt.Fprintf(t.out, "%s has the records, secrets and keys of %s. Keep it where nobody else reads it.\nThe workspaces' own disks are not in it: they stay at their sites, and a service that is brought back finds them there.\n", file, data)
	return nil
}

// writeBackup writes a backup of a data folder of this user's.
func (s *settings) writeBackup(ctx context.Context, to io.Writer) error {
	data, err := filepath.Abs(s.data)
	if err != nil {
		return fmt.Errorf("find the data folder: %w", err)
	}
	work, err := os.MkdirTemp(data, backupWork)
	if err != nil {
		return fmt.Errorf("make room for the backup: %w", err)
	}
	defer os.RemoveAll(work)
	bin, address := "", s.database
	if address == "" {
		own, release, err := borrow(ctx, data)
		if err != nil {
			return err
		}
		defer release()
		bin, address = own.Bin(), own.URL()
	}
	m := backup.Manifest{Version: version, Made: time.Now().UTC().Truncate(time.Second)}
	if m.Schema, err = schemaOf(ctx, address); err != nil {
		return fault.Wrap(err, "no-database", "start PostgreSQL, or name another database", "cannot read the records")
	}
	dump := filepath.Join(work, backup.Records)
	if err := postgres.Dump(ctx, bin, address, dump); err != nil {
		return err
	}
	return backup.Write(to, m, data, dump)
}

// backupWork begins the names of the folders in which backups are made.
const backupWork = "backup-"

// borrow is a data folder's database: the one that is at work, else it is started for the moment.
func borrow(ctx context.Context, data string) (*postgres.Server, func(), error) {
	quiet := slog.New(slog.DiscardHandler)
	folder, err := datafolder.Claim(data, true)
	if fault.Code(err) == "folder-held" {
		own, err := postgres.AtWork(ownDatabase(data))
		return own, func() {}, err
	}
	if err != nil {
		return nil, nil, err
	}
	own, err := openOwn(ctx, folder, quiet)
	if err != nil {
		folder.Release()
		return nil, nil, err
	}
	return own, func() { (&ground{folder: folder, own: own}).leave(quiet) }, nil
}

// schemaOf is the version of a database's records; 0: it has none.
func schemaOf(ctx context.Context, address string) (version int64, err error) {
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return 0, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return records.SchemaOf(ctx, conn)
}

// cutMark is in a data folder while a backup is brought back into it.
const cutMark = "bringing-back"

// bringBack fills the data folder, which must be empty, from a backup. One that was cut is begun anew.
func (s *settings) bringBack(ctx context.Context, t *terminal, log *slog.Logger) error {
	m, err := backup.Look(s.restore)
	if err != nil {
		return err
	}
	if newest := records.NewestSchema(); m.Schema > newest {
		return fault.New("database-newer", "bring it back with version "+m.Version+" of Domicile, or a newer one", "the backup %s is of a newer version than this service", s.restore)
	}
	mark := filepath.Join(s.data, cutMark)
	_, err = os.Stat(mark)
	cut := err == nil
	if _, err := os.Stat(filepath.Join(s.data, "secret.key")); err == nil && !cut {
		return fault.New("not-empty", "choose a new data folder with -data", "the data folder %s has a service's data already, and nothing is written over", s.data)
	}
	folder, err := datafolder.Claim(s.data, true)
	if err != nil {
		return err
	}
	defer folder.Release()
	if err := os.WriteFile(mark, []byte(s.restore+"\n"), 0o600); err != nil {
		return fmt.Errorf("begin to bring the backup back: %w", err)
	}
	work := filepath.Join(folder.Path, "brought")
	if cut {
		if own, err := openOwn(ctx, folder, log); err == nil { // it may still be at work
			_ = own.Close()
		}
		if err := errors.Join(os.RemoveAll(ownDatabase(folder.Path)), os.RemoveAll(work)); err != nil {
			return fmt.Errorf("remove what was brought back by half: %w", err)
		}
	}
	if err := os.Mkdir(work, 0o700); err != nil {
		return fmt.Errorf("make room for the backup: %w", err)
	}
	defer os.RemoveAll(work)
	if _, err := backup.Unpack(s.restore, work); err != nil {
		return err
	}
	if err := s.bringRecords(ctx, folder, filepath.Join(work, backup.Records), log); err != nil {
		return err
	}
	list, err := os.ReadDir(work)
	if err != nil {
		return err
	}
	for _, x := range list {
		if x.Name() == backup.Records {
			continue
		}
		if err := os.Rename(filepath.Join(work, x.Name()), filepath.Join(folder.Path, x.Name())); err != nil {
			return fmt.Errorf("bring back %s: %w", x.Name(), err)
		}
	}
	if err := os.Remove(mark); err != nil {
		return fmt.Errorf("end bringing the backup back: %w", err)
	}
	fmt.Fprintf(t.out, "Brought back from %s, of %s. Workspaces are looked for at their sites; what is gone there is told as lost.\n", s.restore, m.Made.Local().Format(time.DateTime))
	return nil
}

// bringRecords fills the database, which must be empty.
func (s *settings) bringRecords(ctx context.Context, folder *datafolder.Folder, dump string, log *slog.Logger) (err error) {
	bin, address := "", s.database
	if address == "" {
		own, err := openOwn(ctx, folder, log)
		if err != nil {
			return err
		}
		defer func() {
			if closing := own.Close(); err == nil {
				err = closing
			}
		}()
		bin, address = own.Bin(), own.URL()
	}
	has, err := schemaOf(ctx, address)
	if err != nil {
		return fault.Wrap(err, "no-database", "start PostgreSQL, or name another database", "cannot open the database")
	}
	if has != 0 {
		return fault.New("not-empty", "name an empty database", "the database has a service's records already, and nothing is written over")
	}
	return postgres.Restore(ctx, bin, address, dump)
}

// wholeFolder refuses a data folder into which a backup was brought by half.
func wholeFolder(folder *datafolder.Folder) error {
	b, err := os.ReadFile(filepath.Join(folder.Path, cutMark))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("look whether a backup was brought back: %w", err)
	}
	return fault.New("not-whole", "domicile serve -restore "+strings.TrimSpace(string(b)), "bringing a backup back into %s was cut", folder.Path)
}
