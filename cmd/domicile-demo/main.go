// Command domicile-demo starts the service with Skerry's demo data, and all that it needs,
// until Ctrl-C. scripts/demo builds and calls it.
package main

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/crypto/ssh"

	"domicile/internal/amount"
	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/scenario"
)

// The demo's account. Made-up, and on loopback only.
const (
	name     = "skipper"
	password = "tide-and-timetable"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	err := run(ctx)
	stop()
	if err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "demo:", err)
		if remedy := fault.Remedy(err); remedy != "" {
			fmt.Fprintln(os.Stderr, fault.ToDo(remedy))
		}
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	folder := flag.String("folder", ".demo", "where the demo keeps its data")
	cache := flag.String("cache", "", "where the base image is kept (default: the user's cache folder)")
	programs := flag.String("programs", "bin", "the folder of domicile and domicile-agent")
	places := flag.Bool("places", false, "also with a second host over SSH, a site where each workspace has a virtual machine of its own, and one of rented instances")
	flag.Parse()
	begun := time.Now()
	if *cache == "" {
		base, err := os.UserCacheDir()
		if err != nil {
			return err
		}
		*cache = filepath.Join(base, "domicile")
	}
	for _, f := range []string{*folder, *cache} {
		if err := roomIn(f); err != nil {
			return err
		}
	}
	mine, unlock, err := ownFolder(*folder)
	if err != nil {
		return err
	}
	defer unlock()
	say := func(line string) { fmt.Printf("%6.1f s  %s\n", time.Since(begun).Seconds(), line) }
	var more []string
	image := ""
	if *places {
		if image, err = machineImage(ctx, mine); err != nil {
			return err
		}
		more = []string{"-machines", image}
	}
	w, err := scenario.Start(ctx, scenario.Options{Folder: mine, Cache: *cache, Programs: *programs, HTTP: 4380, SSH: 4322, Git: 4390, Registry: 4391, Host: *places, Serve: more, Say: say})
	if err != nil {
		return err
	}
	defer w.Close()
	var flags []string // that the service needs for the places
	if *places {
		if flags, err = w.StartProvider(ctx, image, 4395, 4381); err != nil {
			return err
		}
	}
	say("starting the service")
	if err := w.StartService(ctx, flags...); err != nil {
		return err
	}
	c, key, err := account(ctx, w, mine)
	if err != nil {
		return err
	}
	if *places {
		say("adding the second host to the sites")
		if err := w.AddHost(ctx, c); err != nil {
			return err
		}
		say("adding the provider to the sites")
		if err := w.AddProvider(ctx, c); err != nil {
			return err
		}
	}
	say("ready")
	tell(w, *programs, key, *places)
	return watch(ctx, w, say, flags)
}

// machineImage makes what virtual machines begin with.
func machineImage(ctx context.Context, folder string) (string, error) {
	image, err := filepath.Abs(filepath.Join(folder, "image"))
	if err != nil {
		return "", err
	}
	c := exec.CommandContext(ctx, "scripts/machine-image", image)
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	if err := c.Run(); err != nil {
		return "", fmt.Errorf("make what virtual machines begin with: %w", err)
	}
	return image, nil
}

// watch waits until the demo is to end. A service that ends, such as one that somebody kills
// to see what becomes of the workspaces, is started again; one that ends at once, again and
// again, is not.
func watch(ctx context.Context, w *scenario.World, say func(string), flags []string) error {
	const quick, mostQuick = 5 * time.Second, 3
	for ended := 0; ; {
		started := time.Now()
		select {
		case <-ctx.Done():
			fmt.Println("\nstopping all that was started")
			return nil
		case <-w.Service.Done():
		}
		if ended++; time.Since(started) > quick {
			ended = 1
		}
		if ended > mostQuick {
			return fmt.Errorf("the service ended again and again; it said:\n%s", w.Service.LastWords())
		}
		say("the service ended, and is started again")
		if err := w.StartService(ctx, flags...); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		say("ready")
	}
}

// needed is the disk that the demo takes with its base image, in bytes.
const needed = 2 << 30

// roomIn makes a folder and tells when its disk is too full for the demo, before hours are lost.
func roomIn(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fault.Wrap(err, "no-folder", "choose others with -folder and -cache", "cannot make the folder %s", folder)
	}
	var disk syscall.Statfs_t
	if err := syscall.Statfs(folder, &disk); err != nil {
		return fmt.Errorf("look at the disk of %s: %w", folder, err)
	}
	if free := int64(disk.Bavail) * disk.Bsize; free < needed {
		return fault.New("disk-full", "free some, or choose other folders with -folder and -cache", "the disk of %s has %s free; the demo needs %s", folder, amount.Of(int64(free)), amount.Of(int64(needed)))
	}
	return nil
}

// ownFolder finds a folder that no other demo uses at this moment, the first one by choice.
func ownFolder(base string) (string, func(), error) {
	for n := 1; n < 100; n++ {
		folder := filepath.Join(base, fmt.Sprint(n))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return "", nil, fault.Wrap(err, "no-folder", "choose another with -folder", "cannot make the demo's folder")
		}
		lock := flock.New(filepath.Join(folder, "lock"))
		switch mine, err := lock.TryLock(); {
		case err != nil:
			return "", nil, fmt.Errorf("lock the demo's folder: %w", err)
		case mine:
			return folder, func() { _ = lock.Close() }, nil
		}
	}
	return "", nil, errors.New("a hundred demos run already")
}

// account makes the demo's account and gives it an SSH key, the first time.
func account(ctx context.Context, w *scenario.World, folder string) (c *client.Service, keyFile string, err error) {
	if c, err = client.Open(w.Service.URL, ""); err != nil {
		return nil, "", err
	}
	t, err := client.Answer[client.Token](c.MakeFirstAccount(ctx, client.FirstAccount{Code: scenario.SetupCode, Name: name, Password: password}))
	if fault.Code(err) == "setup-done" {
		t, err = client.Answer[client.Token](c.SignIn(ctx, client.Credentials{Name: name, Password: password, Label: new("demo")}))
	}
	if err != nil {
		return nil, "", err
	}
	if c, err = client.Open(w.Service.URL, t.Token); err != nil {
		return nil, "", err
	}
	keyFile = filepath.Join(folder, "skipper_key")
	public, err := readKey(keyFile)
	if err != nil {
		return nil, "", err
	}
	_, err = client.Answer[client.Key](c.AddKey(ctx, client.NewKey{PublicKey: public}))
	if fault.Code(err) == "key-taken" {
		err = nil
	}
	return c, keyFile, err
}

func readKey(file string) (public string, err error) {
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		_, key, genErr := ed25519.GenerateKey(rand.Reader)
		if genErr != nil {
			return "", genErr
		}
		block, marshalErr := ssh.MarshalPrivateKey(key, "skipper")
		if marshalErr != nil {
			return "", marshalErr
		}
		b = pem.EncodeToMemory(block)
		err = os.WriteFile(file, b, 0o600)
	}
	if err != nil {
		return "", err
	}
	signer, err := ssh.ParsePrivateKey(b)
	if err != nil {
		return "", fmt.Errorf("read %s: %w", file, err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))) + " skipper", nil
}

func tell(w *scenario.World, programs, key string, places bool) {
	host, port, _ := strings.Cut(w.Service.SSH, ":")
	domicile := filepath.Join(programs, "domicile")
	fmt.Printf(`
Console   %s
Sign in   %s, password %s

Four commands to try:
  %s login -server %s -name %s
  %s provision %s/skerry/timetable.git
  %s forward timetable 8080
  ssh -i %s -p %s timetable@%s

`, w.Service.URL, name, password, domicile, w.Service.URL, name, domicile, w.GitAt, domicile, key, port, host)
	if places {
		fmt.Printf(`The same definition in other places, on the second host, in a virtual machine of its own and in a rented instance; and a move:
  %s sites
  %s provision %s/skerry/timetable.git -site %s -name moored
  %s provision %s/skerry/timetable.git -site machines -name afloat
  %s provision %s/skerry/timetable.git -site %s -name chartered
  %s move timetable -site %s

`, domicile, domicile, w.GitAt, scenario.Mooring, domicile, w.GitAt, domicile, w.GitAt, scenario.Rented, domicile, scenario.Mooring)
	}
	fmt.Println("Ctrl-C stops all of it; what was made is there again at the next start.")
}
