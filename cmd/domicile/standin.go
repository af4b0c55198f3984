//go:build linux && !client

package main

import (
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/site/machine/cloud/provider"
	standin "domicile/internal/standin/cloud"
)

// standinSizes are what the stand-in rents: prices are made up.
var standinSizes = []provider.Size{
	{Name: "dinghy", Processors: 1, MemoryBytes: 1 << 30, DiskBytes: 16 << 30, Hour: 9_000, HourOff: new(int64(400))},
	{Name: "ketch", Processors: 2, MemoryBytes: 2 << 30, DiskBytes: 32 << 30, Hour: 18_000, HourOff: new(int64(800))},
	{Name: "schooner", Processors: 4, MemoryBytes: 4 << 30, DiskBytes: 64 << 30, Hour: 36_000, HourOff: new(int64(1600))},
}

var standinCommand = command{
	name: "standin", args: "cloud -image FOLDER [FLAGS]", summary: "Run a stand-in for a provider of rented instances, whose instances are virtual machines of this host",
	example: "domicile standin cloud -image /var/lib/domicile-image -reach 127.0.0.1:4381",
	takes:   []string{"cloud"},
	alone:   true,
	setup: func(f *flag.FlagSet) action {
		at := f.String("http", "127.0.0.1:4395", "where it listens")
		data := f.String("data", "/var/lib/domicile-standin", "the folder of its instances; its path must be short")
		image := f.String("image", "", "the folder with what instances begin with (scripts/machine-image)")
		regions := f.String("region", "north", "the name of its region; several with commas between")
		accounts := f.String("account", "skerry", "the name of its account; several with commas between")
		reach := f.String("reach", "127.0.0.1:4381", "addresses of this host that instances reach, as 10.0.2.2 with the same port, with commas between: such as that of domicile serve -home")
		quota := f.Int("quota", 8, "how many instances an account may have in a region")
		lag := f.Duration("lag", 500*time.Millisecond, "how long what was changed is shown as it was")
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			if args[0] != "cloud" {
				return wrongUse("%q is no stand-in: there is cloud", args[0])
			}
			if *image == "" {
				return wrongUse("-image is missing: scripts/machine-image makes it")
			}
			offered, err := standinAccounts(*data, split(*accounts), split(*regions))
			if err != nil {
				return err
			}
			l, err := listenAt(*at, "-http")
			if err != nil {
				return err
			}
			defer l.Close()
			say := func(format string, args ...any) { fmt.Fprintf(t.err, format+"\n", args...) }
			var all standin.Accounts
			for _, v := range offered {
				machines, err := standin.NewMachines(filepath.Join(v.folder, "m"), *image, split(*reach), say)
				if err != nil {
					return err
				}
				defer machines.Close()
				c, err := standin.New(standin.Options{Region: v.region, Key: v.key, Currency: "EUR", Sizes: standinSizes, Quota: *quota, Lag: *lag,
					Computers: machines, File: filepath.Join(v.folder, "instances.json"), Disks: filepath.Join(v.folder, "disks")})
				if err != nil {
					return err
				}
				defer c.Close()
				all = append(all, c)
			}
			fmt.Fprintf(t.out, "A provider listens at http://%s; to rent there:\n", l.Addr())
			for _, v := range offered {
				fmt.Fprintf(t.out, "  domicile sites add %s http://%s/%s -key %s\n", v.site, l.Addr(), v.region, v.keyFile)
			}
			return serveUntil(ctx, l, all.Handler())
		}
	},
}

// serveUntil serves until ctx ends.
func serveUntil(ctx context.Context, l net.Listener, h http.Handler) error {
	s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// standinAccount is one account in one region of the stand-in.
type standinAccount struct {
	region, key     string
	keyFile, folder string // where the key is, and the account's things in this region
	site            string // what a site there may be called
}

// aName is what accounts and regions are called: they become names of folders.
var aName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// standinAccounts are all accounts in all regions. What the first account has in the first region lies in the
// data folder itself.
func standinAccounts(data string, accounts, regions []string) (list []standinAccount, err error) {
	for flag, names := range map[string][]string{"-account": accounts, "-region": regions} {
		if len(names) == 0 {
			return nil, wrongUse("%s needs a name", flag)
		}
		for i, name := range names {
			if !aName.MatchString(name) || slices.Contains(names[:i], name) {
				return nil, wrongUse("%s: %q is no name, or is there twice: small letters, digits and - make one", flag, name)
			}
		}
	}
	for i, account := range accounts {
		file := filepath.Join(data, "key")
		if i > 0 {
			file = filepath.Join(data, "accounts", account+".key")
		}
		key, err := standinKey(file)
		if err != nil {
			return nil, err
		}
		for j, region := range regions {
			folder, site := data, "rented"
			if i+j > 0 {
				folder, site = filepath.Join(data, "accounts", account, region), "rented-"+account+"-"+region
			}
			if err := os.MkdirAll(folder, 0o711); err != nil {
				return nil, fault.Wrap(err, "no-data-folder", "choose another with -data, or make it", "cannot use the data folder %s", folder)
			}
			list = append(list, standinAccount{region: region, key: key, keyFile: file, folder: folder, site: site})
		}
	}
	return list, nil
}

// standinKey is the key of one of the stand-in's accounts, made the first time.
func standinKey(file string) (string, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o711); err != nil {
		return "", fault.Wrap(err, "no-data-folder", "choose another with -data, or make it", "cannot use the data folder %s", filepath.Dir(file))
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		b = []byte(rand.Text())
		err = os.WriteFile(file, b, 0o600)
	}
	if err != nil {
		return "", fmt.Errorf("keep the key of an account of the stand-in: %w", err)
	}
	return strings.TrimSpace(string(b)), nil
}
