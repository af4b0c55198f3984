package scenario

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"strconv"

	"domicile/internal/client"
	"domicile/internal/daemons"
	"domicile/internal/fault"
)

// Rented is the name of the site of rented instances.
const Rented = "rented"

// seenFromInstances is how instances of the stand-in see this machine's loopback.
const seenFromInstances = "10.0.2.2"

// StartProvider starts the stand-in for a provider, whose instances begin with what is in image,
// and gives the flags with which the service must be started for them to reach it; preferred are
// the ports of the stand-in and of that, 0: any.
func (w *World) StartProvider(ctx context.Context, image string, preferred, home int) (serve []string, err error) {
	w.o.Say("starting the stand-in for a provider of rented instances")
	if home, err = daemons.FreePort(home); err != nil {
		return nil, err
	}
	port := strconv.Itoa(home)
	at := net.JoinHostPort("127.0.0.1", port)
	w.Provider, err = daemons.StartProvider(ctx, filepath.Join(w.o.Programs, "domicile"), w.o.Folder, image, preferred, []string{at})
	if err != nil {
		return nil, fmt.Errorf("start the stand-in for a provider: %w", err)
	}
	return []string{"-home", at, "-home-address", net.JoinHostPort(seenFromInstances, port)}, nil
}

// AddProvider adds the stand-in to the service's sites, unless it is among them.
func (w *World) AddProvider(ctx context.Context, c *client.Service) error {
	key, err := w.Provider.Key()
	if err != nil {
		return err
	}
	_, err = client.Answer[[]client.Finding](c.AddProvider(ctx, client.NewProvider{Name: Rented, Address: w.Provider.Address, Key: key}))
	if fault.Code(err) == "name-taken" {
		return nil
	}
	if err != nil {
		return fmt.Errorf("add the provider: %w", err)
	}
	return nil
}
