package cloud

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"domicile/internal/site"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud/provider"
	"domicile/internal/site/machine/datadisk"
)

// diskPrefix is what the names of this site's disks begin with: others may use the account.
func (m *Maker) diskPrefix() string { return "domicile-" + digest(m.ours()) + "-" }

func digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:6])
}

// disk gives the name of the kept disk with which instances of a base begin, and makes it where
// there is none: so the image reaches the provider once, and no instance takes it in byte by byte.
// Where that cannot be done, there is none, and each instance is brought what it needs.
func (m *Maker) disk(ctx context.Context, offer provider.Offer, shape machine.Shape, prepare *machine.Prepare) (name string, err error) {
	if offer.Disks == nil || !*offer.Disks || shape.Base == "" || prepare == nil || m.o.Folder == "" {
		return "", nil
	}
	smallest := slices.MinFunc(offer.Sizes, func(a, b provider.Size) int { return cmp.Compare(a.DiskBytes, b.DiskBytes) }).DiskBytes
	name = m.diskPrefix() + digest(fmt.Sprint(shape.Base, smallest))
	if err = m.turns.Take(ctx, name, func() error { return m.keepDisk(ctx, name, smallest, prepare.Fill) }); err != nil && ctx.Err() == nil {
		if !errors.Is(err, datadisk.ErrNoEngine) {
			m.o.Say("the provider gets no disk to begin with; the instance is brought what it needs: %v", err)
		}
		return "", nil
	}
	return name, err
}

// keepDisk has the provider keep a disk, unless it does.
func (m *Maker) keepDisk(ctx context.Context, name string, size int64, fill machine.Doing) error {
	list, err := m.o.Provider.Disks(ctx)
	if err != nil || slices.ContainsFunc(list, func(d provider.Disk) bool { return d.Name == name }) {
		return err
	}
	site.Tell(ctx, "making the disk that instances of this image begin with; the provider keeps it for those that follow")
	if err := os.MkdirAll(m.o.Folder, 0o700); err != nil {
		return fmt.Errorf("make a folder for a disk: %w", err)
	}
	folder, err := os.MkdirTemp(m.o.Folder, "disk-")
	if err != nil {
		return fmt.Errorf("make a folder for a disk: %w", err)
	}
	defer os.RemoveAll(folder)
	file, err := datadisk.Fill(ctx, folder, size, fill)
	if err != nil {
		return err
	}
	return m.o.Provider.PutDisk(ctx, name, func() (io.ReadCloser, error) { return os.Open(file) })
}

// unused are this site's disks with which no instance that is there began.
func (m *Maker) unused(ctx context.Context) (list []machine.Spare, err error) {
	offer, err := m.o.Provider.Offer(ctx)
	if err != nil || offer.Disks == nil || !*offer.Disks {
		return nil, err
	}
	disks, err := m.o.Provider.Disks(ctx)
	if err != nil {
		return nil, err
	}
	rentals, err := m.o.Ledger.Rentals(ctx, m.o.Site)
	if err != nil {
		return nil, err
	}
	for _, d := range disks {
		if strings.HasPrefix(d.Name, m.diskPrefix()) && !slices.ContainsFunc(rentals, func(r Rental) bool { return r.Disk == d.Name }) {
			list = append(list, machine.Spare{Name: d.Name, Bytes: d.Bytes, Used: d.Used})
		}
	}
	return list, nil
}
