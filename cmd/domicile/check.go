package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"domicile/internal/artifact"
	"domicile/internal/client"
	"domicile/internal/compose"
	"domicile/internal/definition"
	"domicile/internal/plan"
)

// checking are the flags of check.
type checking struct {
	file, ref, metadata                      string
	offline, lock, update, effective, asJSON bool
}

var checkCommand = command{
	name: "check", args: "[DIR | ADDRESS] [-file PATH] [-effective | -lock | -update] [-offline] [-json]", summary: "Read a definition, say what it makes and what is wrong with it",
	example: "domicile check .\ndomicile check -lock .\ndomicile check http://127.0.0.1:4390/skerry/timetable.git",
	takes:   anything, alone: true,
	setup: func(f *flag.FlagSet) action {
		var c checking
		f.BoolVar(&c.asJSON, "json", false, "print JSON")
		f.StringVar(&c.file, "file", "", "the definition, where there are several")
		f.StringVar(&c.ref, "ref", "", "branch, tag or commit, for an address")
		f.StringVar(&c.metadata, "image-metadata", "", "take the base image's metadata label from this file")
		f.BoolVar(&c.offline, "offline", false, "ask no registry: only what was fetched before is known")
		f.BoolVar(&c.lock, "lock", false, "write the lock files that pin features and images")
		f.BoolVar(&c.update, "update", false, "show what is newer than the pins, and move them")
		f.BoolVar(&c.effective, "effective", false, "print the merged configuration, each value with where it came from")
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			if len(args) == 0 {
				args = []string{"."}
			}
			if err := exactly(args, "DIR"); err != nil {
				return err
			}
			return c.run(ctx, t, args[0])
		}
	},
}

func (c checking) run(ctx context.Context, t *terminal, what string) error {
	info, err := os.Stat(what)
	if err != nil || !info.IsDir() {
		if !strings.Contains(what, ":") {
			return fmt.Errorf("%s is neither a folder nor a git address", what)
		}
		if c.lock || c.update || c.metadata != "" {
			return wrongUse("-lock, -update and -image-metadata need a folder")
		}
		report, raw, err := c.address(ctx, what)
		if err != nil {
			return err
		}
		return c.print(t, report, raw)
	}
	f, err := openRepository(what, c)
	if err != nil {
		return err
	}
	defer f.root.Close()
	if c.update {
		return f.update(ctx, t)
	}
	report := f.read(ctx, false)
	if c.lock {
		if report, err = f.lock(ctx, t, report); err != nil {
			return err
		}
	}
	return c.print(t, report, report)
}

func (c checking) print(t *terminal, report *definition.Report, raw any) (err error) {
	switch {
	case c.asJSON:
		err = printJSON(t.out, raw)
	case c.effective:
		err = printEffective(t.out, report)
	default:
		explain(t.out, report)
	}
	if err == nil && report.HasErrors() {
		err = exitStatus(1)
	}
	return err
}

// checkedFolder is a repository on this machine.
type checkedFolder struct {
	checking
	root     *os.Root
	absolute string
	store    *artifact.Store
	metadata []byte
}

func openRepository(folder string, c checking) (*checkedFolder, error) {
	absolute, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	f := &checkedFolder{checking: c, absolute: absolute, store: &artifact.Store{Folder: cacheFolder(), Offline: c.offline}}
	if c.metadata != "" {
		if f.metadata, err = os.ReadFile(c.metadata); err != nil {
			return nil, fmt.Errorf("read the image's metadata: %w", err)
		}
	}
	if f.root, err = openFolder(absolute); err != nil {
		return nil, err
	}
	return f, nil
}

// cacheFolder is where this user's cache of artifacts is.
func cacheFolder() string {
	folder, err := os.UserCacheDir()
	if err != nil {
		folder = os.TempDir()
	}
	return filepath.Join(folder, "domicile", "artifacts")
}

func (f *checkedFolder) read(ctx context.Context, ignoreLocks bool) *definition.Report {
	report := definition.Read(ctx, f.root.FS(), definition.Options{File: filepath.ToSlash(f.file), Folder: f.absolute, Environment: os.LookupEnv, ImageMetadata: f.metadata,
		Artifacts: f.store, Images: f.store, Compose: compose.Reader{}, IgnoreLocks: ignoreLocks})
	// What the service allows is not known here.
	report.Problems = append(report.Problems, plan.Refused(report, func() (*plan.Services, error) { return compose.Reader{}.Plan(ctx, "", f.root.FS(), report) }, nil, nil, plan.Host{}, false)...)
	return report
}

// address lets the service read the definition; what it answers is printed as it is.
func (c checking) address(ctx context.Context, address string) (*definition.Report, any, error) {
	s, err := service()
	if err != nil {
		return nil, nil, err
	}
	answer, err := client.Answer[client.CheckAnswer](s.CheckSource(ctx, client.CheckRequest{Source: address, Ref: given(c.ref), File: given(c.file), Offline: &c.offline}))
	if err != nil {
		return nil, nil, err
	}
	report := &definition.Report{}
	if err := json.Unmarshal(answer.Report, report); err != nil {
		return nil, nil, fmt.Errorf("read the service's answer: %w", err)
	}
	return report, answer.Report, nil
}
