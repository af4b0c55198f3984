// Package callhome is how a rented instance and the service that ordered it find each other: the
// instance calls, over TLS, so that no port of it is open to anybody. It knows the service by the
// public key that it was given when it first started; the service knows it by a proof that counts
// once, and from then on by the instance's own key, which never leaves it.
package callhome

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net"
	"time"
)

// FirstBoot is what a rented instance is given when it first starts, as JSON.
type FirstBoot struct {
	Home  string `json:"home"`  // host:port of the service that ordered it
	Pin   []byte `json:"pin"`   // of the service's key (Pin)
	Token string `json:"token"` // of its order
	Proof []byte `json:"proof"` // counts once
}

// hello is what an instance says first when it calls.
type hello struct {
	Token string `json:"token"`
	Proof []byte `json:"proof,omitempty"`
}

// helloLimit is how long the beginning of a call has, on either side.
const helloLimit = 30 * time.Second

// Pin is what a service is known by: the SHA-256 of its public key as PKIX writes it.
func Pin(key ed25519.PublicKey) ([]byte, error) {
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return nil, fmt.Errorf("write the service's key: %w", err)
	}
	sum := sha256.Sum256(der)
	return sum[:], nil
}

// certificate is one that carries a key, and says nothing else. It holds at all times: an
// instance's clock may be anything.
func certificate(key ed25519.PrivateKey) (tls.Certificate, error) {
	always := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Unix(0, 0), NotAfter: time.Unix(1<<33, 0)}
	der, err := x509.CreateCertificate(rand.Reader, always, always, key.Public(), key)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("make a certificate of a key: %w", err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, nil
}

// Dial calls the service of a first-boot data with an instance's key, and says who calls.
func Dial(given FirstBoot, key ed25519.PrivateKey) (net.Conn, error) {
	own, err := certificate(key)
	if err != nil {
		return nil, err
	}
	// The key is compared below; a name, or who vouches for it, says nothing more.
	d := tls.Dialer{NetDialer: &net.Dialer{Timeout: helloLimit}, Config: &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{own}, InsecureSkipVerify: true,
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 {
				return errors.New("the service shows no key")
			}
			if pin := sha256.Sum256(s.PeerCertificates[0].RawSubjectPublicKeyInfo); !bytes.Equal(pin[:], given.Pin) {
				return errors.New("the service shows another key than the one that this machine was given")
			}
			return nil
		}}}
	conn, err := d.Dial("tcp", given.Home)
	if err != nil {
		return nil, fmt.Errorf("call the service at %s: %w", given.Home, err)
	}
	if err := json.NewEncoder(conn).Encode(hello{Token: given.Token, Proof: given.Proof}); err != nil {
		conn.Close()
		return nil, fmt.Errorf("say who calls: %w", err)
	}
	return conn, nil
}
