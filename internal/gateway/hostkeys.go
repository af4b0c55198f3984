package gateway

import (
	"bytes"
	"crypto/rand"

	"golang.org/x/crypto/ssh"

	"domicile/internal/connection"
	"domicile/internal/hostkeys"
)

// OpenSSH's PROTOCOL, section 2.5: how a server tells its clients of the keys that they may expect, and
// proves that it has them.
const (
	announce = "hostkeys-00@openssh.com"
	prove    = "hostkeys-prove-00@openssh.com"
)

// mostProven is how many keys may be asked about at a time.
const mostProven = 16

// announceKeys tells a client of the host's keys. One that does not know of this passes over it.
func announceKeys(c ssh.Conn, keys []ssh.Signer) {
	var payload []byte
	for _, k := range keys {
		payload = append(payload, ssh.Marshal(struct{ Key []byte }{k.PublicKey().Marshal()})...)
	}
	_, _, _ = c.SendRequest(announce, false, payload) // a broken connection is noticed by who uses it
}

// proving answers who wants a proof of the host's keys; other requests come out of what it returns.
func proving(c ssh.ConnMetadata, keys hostkeys.Set, requests connection.Requests) connection.Requests {
	return func(yield func(*connection.Request) bool) {
		for r := range requests {
			if r.Type == prove {
				answer, ok := proofs(c.SessionID(), keys.Announced(), r.Payload)
				_ = r.Reply(ok, answer)
				continue
			}
			if !yield(r) {
				return
			}
		}
	}
}

// proofs signs for each key that is asked about. For one that is not the host's there is none at all.
func proofs(session []byte, keys []ssh.Signer, asked []byte) (answer []byte, ok bool) {
	for n := 0; len(asked) > 0; n++ {
		var next struct {
			Key  []byte
			Rest []byte `ssh:"rest"`
		}
		if n == mostProven || ssh.Unmarshal(asked, &next) != nil {
			return nil, false
		}
		asked = next.Rest
		signature := signed(session, keys, next.Key)
		if signature == nil {
			return nil, false
		}
		answer = append(answer, ssh.Marshal(struct{ Signature []byte }{ssh.Marshal(*signature)})...)
	}
	return answer, true
}

func signed(session []byte, keys []ssh.Signer, key []byte) *ssh.Signature {
	for _, k := range keys {
		if !bytes.Equal(k.PublicKey().Marshal(), key) {
			continue
		}
		signature, err := k.Sign(rand.Reader, ssh.Marshal(struct {
			Name         string
			Session, Key []byte
		}{prove, session, key}))
		if err == nil {
			return signature
		}
	}
	return nil
}
