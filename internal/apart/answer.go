package apart

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"domicile/internal/definition"
	"domicile/internal/fault"
)

// answers gives a process what it asks for: of the repository, and of features that were
// fetched for it. It judges nothing else: a file system has only what the process may see.
type answers struct {
	artifacts definition.Artifacts
	images    definition.Images
	mu        sync.Mutex
	systems   []fs.FS // by number, from 1
}

func (a *answers) system(number int) (fs.FS, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if number < 1 || number > len(a.systems) {
		return nil, errors.New("there are no such files")
	}
	return a.systems[number-1], nil
}

// files gives the folder of a feature.
func (a *answers) files(at definition.FeatureFiles) (fs.FS, error) {
	files, err := a.system(at.System)
	if err != nil {
		return nil, err
	}
	return fs.Sub(files, at.Folder)
}

func (a *answers) to(ctx context.Context, q question) (out answer) {
	if err := a.fill(ctx, q, &out); err != nil {
		out = answer{}
		var known *fault.Fault
		var at *fs.PathError
		switch {
		case errors.Is(err, fs.ErrNotExist):
			out.None = true
		case errors.Is(err, definition.ErrOffline):
			out.Offline = true
		case errors.As(err, &out.Mismatch):
		case errors.As(err, &known):
			out.Fault = &fault.Fault{Code: known.Code, Message: err.Error(), Remedy: known.Remedy, Transient: known.Transient}
		case errors.As(err, &at):
			out.Wrong = at.Err.Error()
		default:
			out.Wrong = err.Error()
		}
	}
	out.ID = q.ID
	return out
}

func (a *answers) fill(ctx context.Context, q question, out *answer) error {
	switch q.Kind {
	case askFeature:
		return a.feature(ctx, q, out)
	case askImage:
		if a.images == nil {
			return definition.ErrOffline
		}
		found, err := a.images.Image(ctx, q.Name)
		out.Text, out.Bytes, out.Architectures = found.Resolved, found.Metadata, found.Architectures
		return err
	}
	files, err := a.system(q.System)
	if err != nil {
		return err
	}
	switch q.Kind {
	case askStat:
		info, err := fs.Stat(files, q.Name)
		if err != nil {
			return err
		}
		out.Entries = []entry{{info.Name(), info.Size(), uint32(info.Mode())}}
	case askRead:
		info, err := fs.Stat(files, q.Name)
		if err == nil && (!info.Mode().IsRegular() || info.Size() > maxFile) {
			err = fmt.Errorf("it is no file of at most %d bytes", maxFile)
		}
		if err == nil {
			out.Bytes, err = fs.ReadFile(files, q.Name)
		}
		return err
	case askList:
		list, err := fs.ReadDir(files, q.Name)
		if err != nil {
			return err
		}
		if len(list) > mostEntries {
			return fmt.Errorf("it has more than %d entries", mostEntries)
		}
		for _, e := range list {
			out.Entries = append(out.Entries, entry{Name: e.Name(), Mode: uint32(e.Type())})
		}
	case askTree:
		if files, err = fs.Sub(files, q.Name); err == nil {
			out.Text, err = definition.TreeDigest(files, nil)
		}
		return err
	case askContext:
		out.Text, err = definition.ContextDigest(files, q.Name, q.Counted, q.Ignored)
		return err
	default:
		return fmt.Errorf("%q cannot be asked", q.Kind)
	}
	return nil
}

func (a *answers) feature(ctx context.Context, q question, out *answer) error {
	if a.artifacts == nil {
		return definition.ErrOffline
	}
	ref, err := definition.ParseReference(q.Name)
	if err != nil {
		return err
	}
	if ref.Kind == definition.ReferenceLocal {
		return errors.New("it is in the repository")
	}
	got, err := a.artifacts.Feature(ctx, ref, q.Digest)
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.systems = append(a.systems, got.Files)
	out.System, out.Text = len(a.systems), got.Digest
	return nil
}
