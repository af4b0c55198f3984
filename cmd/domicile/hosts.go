package main

import (
	"context"

	"golang.org/x/crypto/ssh"

	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/site/remote"
)

// hosts is what the service knows of hosts that are reached over SSH.
type hosts struct{ key ssh.Signer }

// Ask asks the host at an address for its key.
func (h hosts) Ask(ctx context.Context, address string) (string, error) {
	to, err := remote.ParseAddress(address)
	if err != nil {
		return "", err
	}
	return remote.HostKey(ctx, to)
}

// Fingerprint is what a person compares of a key.
func (h hosts) Fingerprint(key string) string {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(public)
}

// Install is the line by which a host lets the service in.
func (h hosts) Install() string { return remote.Install(h.key.PublicKey()) }

// Examine looks at the host of a site, by a connection of its own.
func (h hosts) Examine(ctx context.Context, v records.Site) ([]site.Finding, error) {
	to, err := remote.ParseAddress(v.Address)
	if err != nil {
		return nil, err
	}
	line := remote.NewLine(to, h.key, v.HostKey)
	defer line.Close()
	return line.Examine(ctx)
}
