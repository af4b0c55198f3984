package credential

import (
	"encoding/pem"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Keys are the SSH keys that the parts of the product know each other by. They are derived
// from the seal's key, so that every replica has the same and none lies in a file.
type Keys struct {
	seal           *Seal
	service, hosts ssh.Signer
}

// NewKeys derives the keys of an installation.
func NewKeys(s *Seal) (*Keys, error) {
	signer, err := ssh.NewSignerFromKey(s.Key("service"))
	if err != nil {
		return nil, fmt.Errorf("derive the service's key: %w", err)
	}
	hosts, err := ssh.NewSignerFromKey(s.Key("hosts"))
	if err != nil {
		return nil, fmt.Errorf("derive the key for hosts: %w", err)
	}
	return &Keys{s, signer, hosts}, nil
}

// Hosts is what hosts that are reached over SSH know the service by.
func (k *Keys) Hosts() ssh.Signer { return k.hosts }

// Service is what agents know the service by.
func (k *Keys) Service() ssh.Signer { return k.service }

// ServicePublic is its public part, as in an authorized_keys line.
func (k *Keys) ServicePublic() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k.service.PublicKey())))
}

// Guest is what the helpers of a workspace know it by: the public part as in an
// authorized_keys line, and the private one in PEM.
func (k *Keys) Guest(workspace string) (public, private string, err error) {
	key := k.seal.Key("guest " + workspace)
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return "", "", fmt.Errorf("derive the key of %s: %w", workspace, err)
	}
	block, err := ssh.MarshalPrivateKey(key, "domicile helpers")
	if err != nil {
		return "", "", fmt.Errorf("write the key of %s: %w", workspace, err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), string(pem.EncodeToMemory(block)), nil
}
