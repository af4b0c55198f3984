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
		region := f.String("region", "north", "the name of its region")
		reach := f.String("reach", "127.0.0.1:4381", "addresses of this host that instances reach, as 10.0.2.2 with the same port, with commas between: such as that of domicile serve -home")
		quota := f.Int("quota", 8, "how many instances the account may have")
		lag := f.Duration("lag", 500*time.Millisecond, "how long what was changed is shown as it was")
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			if args[0] != "cloud" {
				return wrongUse("%q is no stand-in: there is cloud", args[0])
			}
			if *image == "" {
				return wrongUse("-image is missing: scripts/machine-image makes it")
			}
			key, err := standinKey(*data)
			if err != nil {
				return err
			}
			l, err := listenAt(*at, "-http")
			if err != nil {
				return err
			}
			defer l.Close()
			say := func(format string, args ...any) { fmt.Fprintf(t.err, format+"\n", args...) }
			machines, err := standin.NewMachines(filepath.Join(*data, "m"), *image, split(*reach), say)
			if err != nil {
				return err
			}
			defer machines.Close()
			c, err := standin.New(standin.Options{Region: *region, Key: key, Currency: "EUR", Sizes: standinSizes, Quota: *quota, Lag: *lag, Computers: machines, File: filepath.Join(*data, "instances.json"), Disks: filepath.Join(*data, "disks")})
			if err != nil {
				return err
			}
			defer c.Close()
			fmt.Fprintf(t.out, "A provider with the region %s listens at http://%s; its account's key is in %s:\n  domicile sites add rented http://%s/%s -key %s\n", *region, l.Addr(), keyFileOf(*data), l.Addr(), *region, keyFileOf(*data))
			return serveUntil(ctx, l, c.Handler())
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

func keyFileOf(data string) string { return filepath.Join(data, "key") }

// standinKey is the key of the stand-in's account, made the first time.
func standinKey(data string) (string, error) {
	if err := os.MkdirAll(data, 0o711); err != nil {
		return "", fault.Wrap(err, "no-data-folder", "choose another with -data, or make it", "cannot use the data folder %s", data)
	}
	b, err := os.ReadFile(keyFileOf(data))
	if errors.Is(err, fs.ErrNotExist) {
		b = []byte(rand.Text())
		err = os.WriteFile(keyFileOf(data), b, 0o600)
	}
	if err != nil {
		return "", fmt.Errorf("keep the key of the stand-in's account: %w", err)
	}
	return strings.TrimSpace(string(b)), nil
}
