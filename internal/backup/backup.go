// Package backup puts what the service cannot be without into one file, and takes it out again: the
// records as a dump of the database, and the keys. Workspaces' disks are not in it.
package backup

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"domicile/internal/fault"
)

// Manifest says what a backup is. It is the file's first part.
type Manifest struct {
	Form    int       `json:"form"`    // of the file
	Version string    `json:"version"` // of the service
	Schema  int64     `json:"schema"`  // of the records
	Made    time.Time `json:"made"`
}

// form is the one that is written, and the newest that is read.
const form = 1

// The parts of a backup.
const (
	manifestPart = "domicile-backup.json"
	// Records is the file with the database's dump.
	Records = "records.dump"
)

// keys are the files of the data folder that are part of a backup: those that are there.
var keys = []string{"secret.key", "ssh_host_ed25519_key", "ssh_host_ed25519_key.next", "ssh_host_authority_key", "ssh_host_ecdsa_key", "ssh_host_rsa_key", "known_hosts"}

const (
	mostKey     = 1 << 20 // bytes of a key
	mostRecords = 1 << 40 // bytes of a dump
)

// Into makes a file of what write writes. It is there whole or not at all, and its owner alone reads it.
func Into(file string, write func(io.Writer) error) error {
	if _, err := os.Lstat(file); err == nil {
		return fault.New("file-exists", "name another file, or remove this one", "%s is there already", file)
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".backup-")
	var at *fs.PathError
	if errors.As(err, &at) { // the name that it has until it is whole says nothing
		return fault.Wrap(at.Err, "bad-path", "name a file in a folder that is there and that you may write to", "cannot make %s", file)
	}
	if err != nil {
		return fmt.Errorf("make the backup's file: %w", err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := write(f); err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	return os.Rename(f.Name(), file)
}

// Write writes a backup of the keys of a data folder and of a dump.
func Write(to io.Writer, m Manifest, folder, dump string) error {
	w := tar.NewWriter(to)
	m.Form = form
	b, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	if err := add(w, manifestPart, b, m.Made); err != nil {
		return err
	}
	for _, name := range keys {
		b, err := os.ReadFile(filepath.Join(folder, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = add(w, name, b, m.Made)
		}
		if err != nil {
			return fmt.Errorf("put %s into the backup: %w", name, err)
		}
	}
	if err := addFile(w, dump, m.Made); err != nil {
		return fmt.Errorf("put the records into the backup: %w", err)
	}
	if err := w.Close(); err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	return nil
}

func header(name string, size int64, made time.Time) *tar.Header {
	return &tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o600, ModTime: made}
}

func add(w *tar.Writer, name string, b []byte, made time.Time) error {
	err := w.WriteHeader(header(name, int64(len(b)), made))
	if err == nil {
		_, err = w.Write(b)
	}
	return err
}

func addFile(w *tar.Writer, dump string, made time.Time) error {
	f, err := os.Open(dump)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := w.WriteHeader(header(Records, info.Size(), made)); err != nil {
		return err
	}
	_, err = io.Copy(w, f)
	return err
}

// Look reads what a backup is.
func Look(file string) (m Manifest, err error) {
	f, err := os.Open(file)
	if err != nil {
		return m, notOne(err, file)
	}
	defer f.Close()
	return manifest(tar.NewReader(f), file)
}

func manifest(r *tar.Reader, file string) (m Manifest, err error) {
	h, err := r.Next()
	if err == nil && h.Name != manifestPart {
		err = fmt.Errorf("it begins with %s", h.Name)
	}
	if err == nil {
		err = json.NewDecoder(io.LimitReader(r, mostKey)).Decode(&m)
	}
	if err != nil {
		return m, notOne(err, file)
	}
	if m.Form > form {
		return m, fault.New("bad-backup", "bring it back with the version of Domicile that wrote it: "+m.Version, "the backup %s is of a newer form than this version reads", file)
	}
	return m, nil
}

func notOne(err error, file string) error {
	return fault.Wrap(err, "bad-backup", "name a file that domicile backup wrote", "%s cannot be read as a backup", file)
}

// Unpack puts a backup's parts into a folder. Nothing but its known parts is taken, each once, and
// nothing is written over.
func Unpack(file, folder string) (m Manifest, err error) {
	f, err := os.Open(file)
	if err != nil {
		return m, notOne(err, file)
	}
	defer f.Close()
	r := tar.NewReader(f)
	if m, err = manifest(r, file); err != nil {
		return m, err
	}
	records := false
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return m, notOne(err, file)
		}
		most := int64(mostKey)
		switch {
		case h.Typeflag != tar.TypeReg || h.Name != Records && !slices.Contains(keys, h.Name):
			return m, notOne(fmt.Errorf("it has %q, which is no part of a backup", h.Name), file)
		case h.Name == Records:
			records, most = true, mostRecords
		}
		if h.Size > most {
			return m, notOne(fmt.Errorf("%s is too large", h.Name), file)
		}
		if err := put(r, filepath.Join(folder, h.Name)); err != nil {
			return m, fmt.Errorf("take %s out of the backup: %w", h.Name, err)
		}
	}
	if !records {
		return m, notOne(errors.New("it has no records: its end is missing"), file)
	}
	return m, nil
}

func put(r io.Reader, file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	return errors.Join(err, f.Sync(), f.Close())
}
