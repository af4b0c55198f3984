package trial

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"domicile/internal/client"
	"domicile/internal/fault"
)

// Keys says where a person's keys are at this machine.
type Keys struct {
	// Agent is the socket of the person's SSH agent; empty: there is none.
	Agent string
	// Folder holds the usual files, such as ~/.ssh; empty: there is none.
	Folder string
}

// usual are the files in which OpenSSH's client looks for keys.
var usual = []string{"id_ed25519", "id_ecdsa", "id_rsa", "id_ed25519_sk", "id_ecdsa_sk"}

// held is a key that is at this machine.
type held struct {
	name        string // where it is
	fingerprint string
	signer      ssh.Signer // nil: it is locked by a passphrase
}

// known finds those of a person's keys that the service knows. The error says which are there.
func (k Keys) known(ctx context.Context, registered []client.Key) ([]ssh.Signer, string, error) {
	have := append(k.ofAgent(ctx), k.ofFolder()...)
	var signers []ssh.Signer
	var names, locked []string
	for _, h := range have {
		if !slices.ContainsFunc(registered, func(r client.Key) bool { return r.Fingerprint == h.fingerprint }) {
			continue
		}
		if h.signer == nil {
			locked = append(locked, h.name)
			continue
		}
		signers, names = append(signers, h.signer), append(names, h.name)
	}
	switch {
	case len(signers) > 0:
		return signers, strings.Join(names, ", "), nil
	case len(locked) > 0:
		return nil, "", fault.New("key-locked", "ssh-add "+locked[0]+", or type the passphrase when ssh asks", "%s is known, and locked by a passphrase", strings.Join(locked, ", "))
	case len(have) == 0:
		return nil, "", fault.New("no-key", "ssh-keygen -t ed25519, then domicile keys add ~/.ssh/id_ed25519.pub; or domicile usher, which needs none", "no key is at this machine")
	}
	for _, h := range have {
		names = append(names, h.name)
	}
	return nil, "", fault.New("key-not-known", "domicile keys add FILE.pub", "the service knows none of %s", strings.Join(names, ", "))
}

// signLimit is how long the person's SSH agent has: it may ask the person.
const signLimit = 30 * time.Second

// ofAgent are the keys of the person's SSH agent.
func (k Keys) ofAgent(ctx context.Context) (list []held) {
	if k.Agent == "" {
		return nil
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", k.Agent)
	if err != nil {
		return nil
	}
	context.AfterFunc(ctx, func() { conn.Close() }) // signing asks it once more
	_ = conn.SetDeadline(time.Now().Add(signLimit))
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		return nil
	}
	for _, s := range signers {
		name := "the SSH agent's"
		if key, ok := s.PublicKey().(*agent.Key); ok && key.Comment != "" {
			name += " " + key.Comment
		}
		list = append(list, held{name: name, fingerprint: ssh.FingerprintSHA256(s.PublicKey()), signer: s})
	}
	return list
}

// ofFolder are the keys of the usual files.
func (k Keys) ofFolder() (list []held) {
	if k.Folder == "" {
		return nil
	}
	for _, name := range usual {
		path := filepath.Join(k.Folder, name)
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		signer, err := ssh.ParsePrivateKey(b)
		var missing *ssh.PassphraseMissingError
		switch {
		case err == nil:
			list = append(list, held{path, ssh.FingerprintSHA256(signer.PublicKey()), signer})
		case errors.As(err, &missing):
			if print, err := publicOf(path, missing); err == nil {
				list = append(list, held{path, print, nil})
			}
		}
	}
	return list
}

// publicOf is the fingerprint of a locked key, which its own file or the one beside it has.
func publicOf(path string, missing *ssh.PassphraseMissingError) (string, error) {
	if missing.PublicKey != nil {
		return ssh.FingerprintSHA256(missing.PublicKey), nil
	}
	b, err := os.ReadFile(path + ".pub")
	if err != nil {
		return "", err
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(b)
	if err != nil {
		return "", fmt.Errorf("read %s.pub: %w", path, err)
	}
	return ssh.FingerprintSHA256(key), nil
}
