package remote

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
)

// Hop is a host on the way, and what it is known by.
type Hop struct {
	Address
	Pinned string // its key, as in an authorized_keys line; empty: none is known yet
}

// ParseRoute reads the addresses of hosts that lead somewhere, with commas between, the nearest
// first; pinned are their keys, a line each, followed by that of the host that they lead to.
// That one's key is given apart.
func ParseRoute(through, pinned string) (hops []Hop, last string, err error) {
	keys := strings.Split(pinned, "\n")
	if through != "" {
		for i, text := range strings.Split(through, ",") {
			a, err := ParseAddress(strings.TrimSpace(text))
			if err != nil {
				return nil, "", err
			}
			h := Hop{Address: a}
			if len(keys) > 1 && i < len(keys)-1 {
				h.Pinned = keys[i]
			}
			hops = append(hops, h)
		}
	}
	return hops, keys[len(keys)-1], nil
}

// enter goes from host to host, proves at each which it is and who the service is, and gives
// the connection to the last. The others end with it.
func enter(ctx context.Context, key ssh.Signer, route []Hop) (*ssh.Client, error) {
	var lead *ssh.Client
	for _, h := range route {
		next, err := handshake(ctx, key, h, lead)
		if err != nil {
			if lead != nil {
				lead.Close()
			}
			return nil, err
		}
		if before := lead; before != nil {
			go func() {
				_ = next.Wait() // whatever ended it
				before.Close()
			}()
		}
		lead = next
	}
	return lead, nil
}

// handshake dials a host, from the one that leads there where there is one, proves who it is
// and who the service is.
func handshake(ctx context.Context, key ssh.Signer, to Hop, lead *ssh.Client) (*ssh.Client, error) {
	if to.Pinned == "" {
		return nil, fault.New("host-not-known", "domicile sites trust NAME shows its key and pins it", "the key of the host %s is not known yet", to.Host)
	}
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(to.Pinned))
	if err != nil {
		return nil, fmt.Errorf("read the pinned key of %s: %w", to.Host, err)
	}
	var other ssh.PublicKey
	client, err := dial(ctx, to.Address, lead, &ssh.ClientConfig{User: to.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyAlgorithms: algorithms(pinned),
		HostKeyCallback: func(_ string, _ net.Addr, shown ssh.PublicKey) error {
			if string(shown.Marshal()) != string(pinned.Marshal()) {
				other = shown
				return errors.New("another key")
			}
			return nil
		}})
	switch {
	case err == nil:
		return client, nil
	case other != nil:
		return nil, fault.Wrap(err, "host-key-changed", "find out why; if the host was installed anew: domicile sites trust NAME",
			"the host %s shows another key (%s) than the one that is pinned (%s)", to.Host, ssh.FingerprintSHA256(other), ssh.FingerprintSHA256(pinned))
	case strings.Contains(err.Error(), "no common algorithm for host key"):
		return nil, fault.Wrap(err, "host-key-changed", "find out why; if the host was installed anew: domicile sites trust NAME", "the host %s has no key any more of the kind that is pinned (%s)", to.Host, pinned.Type())
	case strings.Contains(err.Error(), "unable to authenticate"):
		return nil, fault.Wrap(err, "key-not-installed", fmt.Sprintf("add this line to ~/.ssh/authorized_keys of %s on %s: %s", to.User, to.Host, Install(key.PublicKey())),
			"the host %s does not let the service in as %s", to.Host, to.User)
	}
	return nil, away(to.Address, err)
}

func away(from Address, err error) error {
	return fault.Transient(err, "host-away", "see whether the host runs and its SSH port is open", "the host %s does not answer", from.Host)
}

// dial reaches a host within the limit, from the one that leads there where there is one.
func dial(ctx context.Context, to Address, lead *ssh.Client, config *ssh.ClientConfig) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, dialLimit)
	defer cancel()
	from := (&net.Dialer{}).DialContext
	if lead != nil {
		from = lead.DialContext
	}
	stream, err := from(ctx, "tcp", net.JoinHostPort(to.Host, to.Port))
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	conn, channels, requests, err := ssh.NewClientConn(stream, net.JoinHostPort(to.Host, to.Port), config)
	if err != nil {
		stream.Close()
		return nil, err
	}
	return ssh.NewClient(conn, channels, requests), nil
}

// algorithms are those by which a host proves a key of this kind.
func algorithms(key ssh.PublicKey) []string {
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{key.Type()}
}

// errSeen ends a handshake when the host's key was seen.
var errSeen = errors.New("the key was seen")

// HostKeys asks hosts, of which each leads to the next, for their keys, as authorized_keys
// lines. Who is to lead on must let the service in.
func HostKeys(ctx context.Context, key ssh.Signer, route ...Address) (keys []string, err error) {
	var hops []Hop
	for _, to := range route {
		known, err := hostKey(ctx, key, hops, to)
		if err != nil {
			return nil, err
		}
		hops, keys = append(hops, Hop{to, known}), append(keys, known)
	}
	return keys, nil
}

// hostKey asks a host for its key, from the last of those that lead there.
func hostKey(ctx context.Context, key ssh.Signer, through []Hop, to Address) (string, error) {
	lead, err := enter(ctx, key, through)
	if err != nil {
		return "", err
	}
	if lead != nil {
		defer lead.Close()
	}
	var seen ssh.PublicKey
	_, err = dial(ctx, to, lead, &ssh.ClientConfig{User: to.User, HostKeyAlgorithms: []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA512},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			seen = key
			return errSeen
		}})
	if seen == nil {
		return "", away(to, err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(seen))), nil
}
