//go:build linux && !client

package main

import (
	"context"
	"strings"

	"golang.org/x/crypto/ssh"

	"domicile/internal/api"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/remote"
)

// hosts is what the service knows of hosts that are reached over SSH.
type hosts struct{ key ssh.Signer }

// Ask asks the host at an address for its key, and those that lead there.
func (h hosts) Ask(ctx context.Context, address, through string) (string, error) {
	to, err := remote.ParseAddress(address)
	if err != nil {
		return "", err
	}
	hops, _, err := remote.ParseRoute(through, "")
	if err != nil {
		return "", err
	}
	var route []remote.Address
	for _, h := range hops {
		route = append(route, h.Address)
	}
	keys, err := remote.HostKeys(ctx, h.key, append(route, to)...)
	return strings.Join(keys, "\n"), err
}

// Known tells what the hosts that lead to one are known by.
func (h hosts) Known(through, keys string) (list []api.KnownHost) {
	hops, _, err := remote.ParseRoute(through, keys)
	if err != nil {
		return nil // it was judged when it was added
	}
	for _, hop := range hops {
		list = append(list, api.KnownHost{Host: hop.Host, Fingerprint: h.Fingerprint(hop.Pinned)})
	}
	return list
}

// Fingerprint is what a person compares of the last of these keys.
func (h hosts) Fingerprint(keys string) string {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(keys[strings.LastIndexByte(keys, '\n')+1:]))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(public)
}

// Install is the line by which a host lets the service in.
func (h hosts) Install() string { return remote.Install(h.key.PublicKey()) }

// lineTo makes the line to the host of a site.
func lineTo(v records.Site, key ssh.Signer) (*remote.Line, error) {
	to, err := remote.ParseAddress(v.Address)
	if err != nil {
		return nil, err
	}
	hops, pinned, err := remote.ParseRoute(v.Through, v.HostKey)
	if err != nil {
		return nil, err
	}
	return remote.NewLine(to, key, pinned, hops...), nil
}

// Examine looks at the host of a site, by a connection of its own.
func (h hosts) Examine(ctx context.Context, v records.Site) ([]site.Finding, error) {
	line, err := lineTo(v, h.key)
	if err != nil {
		return nil, err
	}
	defer line.Close()
	return line.Examine(ctx)
}
