package provider

import (
	"context"
	"io"
	"net/http"
	"time"
)

// putLimit bounds how long a disk takes to be sent.
const putLimit = time.Hour

// Disks lists the disks that the account keeps.
func (a *Account) Disks(ctx context.Context) ([]Disk, error) {
	list, err := ask[[]Disk](ctx, a, "list the disks", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.ListDisks(ctx, a.region) })
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		if !known.MatchString(d.Name) || d.Bytes < 0 {
			return nil, a.nonsense("a disk that cannot be: %q", d.Name)
		}
	}
	return list, nil
}

// PutDisk keeps a disk; open opens its file, anew for each try.
func (a *Account) PutDisk(ctx context.Context, name string, open func() (io.ReadCloser, error)) error {
	_, err := ask[struct{}](ctx, a, "keep a disk", putLimit, func(ctx context.Context) (*http.Response, error) {
		f, err := open()
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return a.client.PutDiskWithBody(ctx, a.region, name, "application/octet-stream", f)
	})
	return err
}

// DeleteDisk forgets a disk.
func (a *Account) DeleteDisk(ctx context.Context, name string) error {
	_, err := ask[struct{}](ctx, a, "forget a disk", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.DeleteDisk(ctx, a.region, name) })
	return err
}
