package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"domicile/internal/definition"
)

// lock writes the lock files of what was read, and reads again with them.
func (f *checkedFolder) lock(ctx context.Context, t *terminal, report *definition.Report) (*definition.Report, error) {
	if report.HasErrors() {
		return report, nil // they are told; nothing is written
	}
	features, images, err := report.LockFiles()
	if err != nil {
		return nil, fmt.Errorf("nothing was pinned: %w", err)
	}
	featuresAt, imagesAt := definition.LockPaths(report.File)
	for _, l := range []struct {
		path string
		text []byte
	}{{featuresAt, features}, {imagesAt, images}} {
		said, err := f.writeLock(l.path, l.text)
		if err != nil {
			return nil, err
		}
		if said != "" && !f.asJSON {
			fmt.Fprintf(t.out, "%s %s\n", said, l.path)
		}
	}
	return f.read(ctx, false), nil
}

// writeLock writes a lock file; one that would pin nothing is removed.
func (f *checkedFolder) writeLock(path string, text []byte) (said string, err error) {
	old, readErr := fs.ReadFile(f.root.FS(), path)
	switch {
	case text == nil && readErr != nil:
		return "", nil
	case text == nil:
		if err := f.root.Remove(path); err != nil {
			return "", fmt.Errorf("remove %s: %w", path, err)
		}
		return "Removed", nil
	case readErr == nil && bytes.Equal(old, text):
		return "Unchanged:", nil
	case readErr != nil && !errors.Is(readErr, fs.ErrNotExist):
		return "", fmt.Errorf("read %s: %w", path, readErr)
	}
	if err := f.root.WriteFile(path, text, 0o644); err != nil {
		return "", fmt.Errorf("write %s: %w", path, err)
	}
	return "Wrote", nil
}

// move is one pin that moved, or could.
type move struct {
	Kind      string `json:"kind"`
	Reference string `json:"reference"`
	From      string `json:"from,omitempty"` // the version or digest that was pinned
	To        string `json:"to,omitempty"`
	Newer     string `json:"newer,omitempty"` // a version beyond what the definition asks for
}

// update looks what the references stand for now, shows it, and moves the pins.
func (f *checkedFolder) update(ctx context.Context, t *terminal) error {
	if f.offline {
		return wrongUse("-update must ask the registries, so -offline cannot stand beside it")
	}
	old, now := f.read(ctx, false), f.read(ctx, true)
	if now.HasErrors() {
		return f.print(t, now, now)
	}
	moves, err := f.moves(ctx, old, now)
	if err != nil {
		return err
	}
	if _, err := f.lock(ctx, &terminal{out: &strings.Builder{}}, now); err != nil {
		return err
	}
	if f.asJSON {
		return printJSON(t.out, moves)
	}
	if len(moves) == 0 {
		fmt.Fprintln(t.out, "All pins are up to date.")
		return nil
	}
	table := newTable(t.out)
	table.row("KIND", "REFERENCE", "WAS", "IS NOW", "ALSO THERE")
	for _, m := range moves {
		table.row(m.Kind, m.Reference, orDash(m.From), orDash(m.To), orDash(m.Newer))
	}
	table.flush()
	return nil
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (f *checkedFolder) moves(ctx context.Context, old, now *definition.Report) ([]move, error) {
	moves := []move{}
	for _, feature := range now.Features {
		ref, err := definition.ParseReference(feature.Reference)
		if err != nil || ref.Kind == definition.ReferenceLocal {
			continue
		}
		m := move{Kind: "feature", Reference: feature.Reference}
		if was := old.Locks.Features[feature.Reference]; was.Digest() != feature.Digest {
			m.From, m.To = was.Version, feature.Version
		}
		if ref.Kind == definition.ReferenceOCI {
			versions, err := f.store.Versions(ctx, ref.Name)
			if err != nil {
				return nil, err
			}
			m.Newer = newest(versions, feature.Version)
		}
		if m.To != "" || m.Newer != "" {
			moves = append(moves, m)
		}
	}
	for _, image := range now.Images {
		was := old.Locks.Images[image.Reference].Resolved
		if image.Resolved != "" && was != image.Resolved && !strings.Contains(image.Reference, "@") {
			moves = append(moves, move{Kind: "image", Reference: image.Reference, From: shortDigest(was), To: shortDigest(image.Resolved)})
		}
	}
	return moves, nil
}

// newest is the newest whole version beyond current, or "".
func newest(versions []string, current string) string {
	versions = slices.DeleteFunc(versions, func(v string) bool { return strings.Count(v, ".") != 2 })
	slices.SortFunc(versions, definition.CompareVersions)
	if len(versions) == 0 || definition.CompareVersions(versions[len(versions)-1], current) <= 0 {
		return ""
	}
	return versions[len(versions)-1]
}

func shortDigest(reference string) string {
	digest := definition.ImageDigest(reference)
	return digest[:min(len(digest), 19)]
}
