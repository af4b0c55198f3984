// Package hostkeys keeps the keys by which people know the service's SSH server, and changes them in an
// orderly way: the next key is announced while the present one is still in use, and both are certified
// by an authority that stays.
package hostkeys

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
)

// Set are the keys of one moment.
type Set struct {
	Present   ssh.Signer
	Certified ssh.Signer // the present one, with the authority's certificate
	Next      ssh.Signer // nil: none is announced
	Authority ssh.PublicKey
	// Others are keys of other kinds, for clients whose rules do not allow Ed25519. They do not change.
	Others []Pair
}

// Pair is a key, and the same with the authority's certificate.
type Pair struct{ Plain, Certified ssh.Signer }

// Announced are the keys that clients may expect, the present one first.
func (s Set) Announced() []ssh.Signer {
	if s.Next == nil {
		return []ssh.Signer{s.Present}
	}
	return []ssh.Signer{s.Present, s.Next}
}

// The files of a folder.
const (
	presentFile   = "ssh_host_ed25519_key"
	nextFile      = presentFile + ".next"
	authorityFile = "ssh_host_authority_key"
	ecdsaFile     = "ssh_host_ecdsa_key"
	rsaFile       = "ssh_host_rsa_key"
)

// rsaBits is the size of the RSA key.
const rsaBits = 3072

// Folder has the keys in files. Several services may share one: each sees what another changes.
type Folder struct {
	path  string
	mu    sync.Mutex
	set   Set
	stamp string // of the files as they were read
}

// Open reads the keys of a folder, and makes those that are missing.
func Open(path string) (*Folder, error) {
	f := &Folder{path: path}
	for _, name := range []string{presentFile, authorityFile, ecdsaFile, rsaFile} {
		if _, err := os.Stat(f.file(name)); errors.Is(err, fs.ErrNotExist) {
			if err := makeKey(f.file(name)); err != nil {
				return nil, fmt.Errorf("make host key: %w", err)
			}
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f, f.read()
}

func (f *Folder) file(name string) string { return filepath.Join(f.path, name) }

// Now are the keys as they are now. Where files cannot be read any more they are as they were.
func (f *Folder) Now() Set {
	f.mu.Lock()
	defer f.mu.Unlock()
	if stamp := f.stampNow(); stamp != f.stamp {
		_ = f.read()
	}
	return f.set
}

// Prepare makes the next key, which is announced from then on. One that is there stays.
func (f *Folder) Prepare() (Set, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, err := os.Stat(f.file(nextFile)); errors.Is(err, fs.ErrNotExist) {
		if err := makeKey(f.file(nextFile)); err != nil {
			return f.set, fmt.Errorf("make the next host key: %w", err)
		}
	}
	err := f.read()
	return f.set, err
}

// Change takes the next key in place of the present one.
func (f *Folder) Change() (Set, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	err := os.Rename(f.file(nextFile), f.file(presentFile))
	if errors.Is(err, fs.ErrNotExist) {
		return f.set, fault.New("no-next-key", "domicile hostkey next, and give clients some days to learn it", "no next host key is announced")
	}
	if err != nil {
		return f.set, fmt.Errorf("change the host key: %w", err)
	}
	err = f.read()
	return f.set, err
}

// read reads the files. The lock is held.
func (f *Folder) read() error {
	stamp := f.stampNow()
	var s Set
	var err error
	if s.Present, err = readKey(f.file(presentFile)); err != nil {
		return err
	}
	authority, err := readKey(f.file(authorityFile))
	if err != nil {
		return err
	}
	s.Authority = authority.PublicKey()
	if _, statErr := os.Stat(f.file(nextFile)); statErr == nil {
		if s.Next, err = readKey(f.file(nextFile)); err != nil {
			return err
		}
	}
	if s.Certified, err = certify(s.Present, authority); err != nil {
		return err
	}
	for _, name := range []string{ecdsaFile, rsaFile} {
		var pair Pair
		if pair.Plain, err = readKey(f.file(name)); err != nil {
			return err
		}
		if pair.Certified, err = certify(pair.Plain, authority); err != nil {
			return err
		}
		s.Others = append(s.Others, pair)
	}
	f.set, f.stamp = s, stamp
	return nil
}

func (f *Folder) stampNow() (stamp string) {
	for _, name := range []string{presentFile, nextFile, authorityFile} {
		if info, err := os.Stat(f.file(name)); err == nil {
			stamp += info.ModTime().Format(time.RFC3339Nano)
		}
		stamp += " "
	}
	return stamp
}

// certify has the authority say that a key is a host's: of any name, for people reach the service by
// many, and the authority vouches for this service alone.
func certify(key, authority ssh.Signer) (ssh.Signer, error) {
	c := &ssh.Certificate{Key: key.PublicKey(), CertType: ssh.HostCert, KeyId: "domicile", ValidBefore: ssh.CertTimeInfinity}
	if err := c.SignCert(rand.Reader, authority); err != nil {
		return nil, fmt.Errorf("certify the host key: %w", err)
	}
	return ssh.NewCertSigner(c, key)
}

func readKey(path string) (ssh.Signer, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("host key: %w", err)
	}
	signer, err := ssh.ParsePrivateKey(b)
	if signs, ok := signer.(ssh.AlgorithmSigner); ok && err == nil && signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		signer, err = ssh.NewSignerWithAlgorithms(signs, []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}) // not SHA-1
	}
	if err != nil {
		return nil, fmt.Errorf("host key %s: %w", path, err)
	}
	return signer, nil
}

// makeKey makes a key of the kind that the file's name says.
func makeKey(path string) (err error) {
	var key crypto.PrivateKey
	switch filepath.Base(path) {
	case ecdsaFile:
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case rsaFile:
		key, err = rsa.GenerateKey(rand.Reader, rsaBits)
	default:
		_, key, err = ed25519.GenerateKey(rand.Reader)
	}
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(key, "domicile")
	if err != nil {
		return err
	}
	return os.WriteFile(path, pem.EncodeToMemory(block), 0o600)
}
