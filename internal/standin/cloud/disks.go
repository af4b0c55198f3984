package cloud

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"domicile/internal/site/machine/cloud/provider"
)

// diskNames are what names of disks look like: they become names of files.
var diskNames = regexp.MustCompile(`^[a-z][a-z0-9-]{0,63}$`)

// mostDisk bounds a disk, in bytes.
const mostDisk = 64 << 30

func (c *Cloud) diskFile(name string) string { return filepath.Join(c.o.Disks, name) }

// hasDisk tells whether a disk is kept, and notes that it is used.
func (c *Cloud) hasDisk(name string, now time.Time) bool {
	return c.o.Disks != "" && diskNames.MatchString(name) && os.Chtimes(c.diskFile(name), now, now) == nil
}

func (c *Cloud) keepsDisks(region, name string) error {
	if err := c.inRegion(region); err != nil {
		return err
	}
	if c.o.Disks == "" || !diskNames.MatchString(name) {
		return problem{http.StatusBadRequest, "bad-order", fmt.Sprintf("no disk is kept by the name %q", name)}
	}
	return nil
}

// ListDisks lists the disks.
func (c *Cloud) ListDisks(_ context.Context, q provider.ListDisksRequestObject) (provider.ListDisksResponseObject, error) {
	if err := c.inRegion(q.Region); err != nil {
		return nil, err
	}
	list := provider.ListDisks200JSONResponse{}
	entries, err := os.ReadDir(c.o.Disks)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && diskNames.MatchString(e.Name()) {
			list = append(list, provider.Disk{Name: e.Name(), Bytes: info.Size(), Used: info.ModTime().UTC()})
		}
	}
	return list, nil
}

// PutDisk keeps a disk.
func (c *Cloud) PutDisk(_ context.Context, q provider.PutDiskRequestObject) (provider.PutDiskResponseObject, error) {
	if err := c.keepsDisks(q.Region, q.Name); err != nil {
		return nil, err
	}
	if c.hasDisk(q.Name, time.Now()) {
		return provider.PutDisk204Response{}, nil
	}
	if err := os.MkdirAll(c.o.Disks, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(c.o.Disks, ".new-")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name()) // unless it has its name
	n, err := io.Copy(f, io.LimitReader(q.Body, mostDisk))
	if err := errors.Join(err, f.Close()); err != nil {
		return nil, err
	}
	if n == mostDisk {
		return nil, problem{http.StatusBadRequest, "bad-order", "the disk is too large"}
	}
	return provider.PutDisk204Response{}, os.Rename(f.Name(), c.diskFile(q.Name))
}

// DeleteDisk forgets a disk.
func (c *Cloud) DeleteDisk(_ context.Context, q provider.DeleteDiskRequestObject) (provider.DeleteDiskResponseObject, error) {
	if err := c.keepsDisks(q.Region, q.Name); err != nil {
		return nil, err
	}
	if err := os.Remove(c.diskFile(q.Name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return provider.DeleteDisk204Response{}, nil
}
