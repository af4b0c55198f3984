//go:build linux && !client

package main

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"

	"domicile/internal/api"
	"domicile/internal/callhome"
	"domicile/internal/credential"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud"
	"domicile/internal/site/machine/cloud/provider"
)

// rented is what all sites of rented instances have in common.
type rented struct {
	home         string // host:port at which instances reach the service; empty: none
	installation string
	key          ed25519.PrivateKey // by which instances know the service
	secret       []byte             // of their proofs
	ledger       ledger
	lines        *cloud.Lines
	seal         *credential.Seal
}

func newRented(home, installation, folder string, store *records.Store, seal *credential.Seal) *rented {
	r := &rented{home: home, installation: installation, key: seal.Key("home"), secret: seal.Derive("instances"), ledger: ledger{store}, seal: seal}
	r.lines = cloud.NewLines(r.ledger, r.secret, folder)
	return r
}

// answer answers the calls of instances until the listener is closed.
func (r *rented) answer(ctx context.Context, l net.Listener, log *slog.Logger) error {
	a := callhome.Answerer{Key: r.key, Admit: r.lines.Admit, Take: r.lines.Take, Refused: func(from net.Addr, err error) {
		log.Debug("a call that is no instance's", "from", from.String(), "error", err)
	}}
	return a.Serve(ctx, l)
}

// sealedFor is what the key of a site's account is sealed for.
func sealedFor(site string) string { return "account of the site " + site }

// openRented opens a site of rented instances. They go on when it is left.
func (o *opener) openRented(v records.Site) (site.Site, func(), error) {
	key, err := o.rented.seal.Open(sealedFor(v.Name), v.Secret)
	if err != nil {
		return nil, nil, err
	}
	account, err := provider.Open(v.Address, key)
	if err != nil {
		return nil, nil, err
	}
	pin, err := callhome.Pin(o.rented.key.Public().(ed25519.PublicKey))
	if err != nil {
		return nil, nil, err
	}
	say := func(format string, args ...any) { o.log.Info(fmt.Sprintf(format, args...), "site", v.Name) }
	maker := cloud.New(cloud.Options{Site: v.Name, Installation: o.rented.installation, Place: account.Place, Provider: account, Ledger: o.rented.ledger, Lines: o.rented.lines,
		Home: o.rented.home, Pin: pin, Secret: o.rented.secret, Folder: filepath.Join(o.data, "disks"), Say: say})
	return machine.New(machine.Options{Kind: site.Cloud, Maker: maker, Engine: o.common, Images: o.images, Say: say, Usual: machine.Shape{Processors: 1}, Folder: filepath.Join(o.data, "disks"),
		System: "a rented instance for each workspace"}), maker.Close, nil
}

// accounts are what the API needs of accounts at providers.
type accounts struct{ rented *rented }

var _ api.Accounts = accounts{}

// Try looks whether an account is one, and gives its key sealed for a site.
func (a accounts) Try(ctx context.Context, site, address, key string) (sealed []byte, err error) {
	if a.rented.home == "" {
		return nil, cloud.ErrNoHome
	}
	account, err := provider.Open(address, key)
	if err != nil {
		return nil, err
	}
	if _, err := account.Offer(ctx); err != nil {
		return nil, err
	}
	return a.rented.seal.Close(sealedFor(site), key), nil
}

// ledger keeps what is rented in the service's records.
type ledger struct{ store *records.Store }

var _ cloud.Ledger = ledger{}

func (l ledger) Order(ctx context.Context, r cloud.Rental) (bool, error) {
	return unless(l.store.AddRental(ctx, records.Rental(r)), records.ErrTaken)
}

func (l ledger) Rental(ctx context.Context, site, workspace string) (cloud.Rental, bool, error) {
	r, err := l.store.Rental(ctx, site, workspace)
	found, err := unless(err, records.ErrNotFound)
	return cloud.Rental(r), found, err
}

func (l ledger) Rentals(ctx context.Context, site string) (list []cloud.Rental, err error) {
	all, err := l.store.Rentals(ctx, site)
	for _, r := range all {
		list = append(list, cloud.Rental(r))
	}
	return list, err
}

func (l ledger) ByToken(ctx context.Context, token string) (cloud.Rental, bool, error) {
	r, err := l.store.RentalByToken(ctx, token)
	found, err := unless(err, records.ErrNotFound)
	return cloud.Rental(r), found, err
}

func (l ledger) Place(ctx context.Context, token, instance string) (bool, error) {
	return unless(l.store.PlaceRental(ctx, token, instance), records.ErrTaken)
}

func (l ledger) Mark(ctx context.Context, token, mark string) error {
	return l.store.MarkRental(ctx, token, mark)
}

func (l ledger) Admit(ctx context.Context, token string, key []byte) (bool, error) {
	return l.store.AdmitRental(ctx, token, key)
}

func (l ledger) Leave(ctx context.Context, token, why string) error {
	return l.store.LeaveRental(ctx, token, why)
}

func (l ledger) Spend(ctx context.Context, token string, spent int64) error {
	return l.store.SpendRental(ctx, token, spent)
}

func (l ledger) End(ctx context.Context, token string) error { return l.store.EndRental(ctx, token) }

// unless tells that something went well; the error that stands for an answer is none.
func unless(err, no error) (bool, error) {
	if errors.Is(err, no) {
		return false, nil
	}
	return err == nil, err
}
