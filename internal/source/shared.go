package source

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Of the checkouts that all share, these many stay, and those that were used lately.
const (
	sharedKept = 8
	sharedFor  = time.Hour
)

const sharedPrefix = "shared-"

// shared gives the one checkout of a commit that all use who only read it and sign in as the
// same person: its submodules and large files may be given to that one alone. It is made
// where it is not there; who comes meanwhile waits for it.
func (f *fetching) shared(ctx context.Context, t tip) (string, error) {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\n%s\n%s\n%s", f.Address, t.branch, t.commit, f.Login.identity()))
	folder := f.path(sharedPrefix + hex.EncodeToString(sum[:10]))
	if err := os.MkdirAll(filepath.Dir(folder), 0o700); err != nil {
		return "", fmt.Errorf("make the checkout's folder: %w", err)
	}
	unlock, err := lock(ctx, folder+".lock")
	if err != nil {
		return "", err
	}
	defer unlock()
	now := time.Now()
	if err := os.Chtimes(folder, now, now); err == nil {
		f.Say("it is checked out already")
		return folder, nil
	}
	made := folder + ".new"
	if err := os.RemoveAll(made); err != nil {
		return "", fmt.Errorf("clear an unfinished checkout: %w", err)
	}
	if err := f.checkOut(ctx, t, made); err != nil {
		return "", err
	}
	if err := os.Rename(made, folder); err != nil {
		return "", fmt.Errorf("keep the checkout: %w", err)
	}
	if err := os.Chtimes(folder, now, now); err != nil {
		return "", fmt.Errorf("note the checkout's use: %w", err)
	}
	return folder, f.dropShared(filepath.Dir(folder))
}

// dropShared removes shared checkouts that were not used for a while, but for the newest.
func (f *Fetcher) dropShared(folder string) error {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return fmt.Errorf("look for old checkouts: %w", err)
	}
	type kept struct {
		name string
		used time.Time
	}
	var list []kept
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && e.IsDir() && strings.HasPrefix(e.Name(), sharedPrefix) && !strings.HasSuffix(e.Name(), ".new") {
			list = append(list, kept{e.Name(), info.ModTime()})
		}
	}
	slices.SortFunc(list, func(a, b kept) int { return cmp.Compare(b.used.UnixNano(), a.used.UnixNano()) })
	for _, k := range list[min(len(list), sharedKept):] {
		if time.Since(k.used) < sharedFor {
			continue
		}
		if err := os.RemoveAll(filepath.Join(folder, k.name)); err != nil {
			return fmt.Errorf("remove an old checkout: %w", err)
		}
	}
	return nil
}
