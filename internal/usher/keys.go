package usher

import (
	"bytes"
	"context"
	"crypto/sha256"
	"domicile/internal/visible"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"domicile/internal/fault"
)

// lentAgent is the person's SSH agent as a workspace has it: it lists the keys that the person lends
// and signs with them. It keeps, removes and locks nothing.
type lentAgent struct {
	own       agent.ExtendedAgent
	usher     *Usher
	workspace string
	ctx       context.Context // of the visit: what is asked through the agent's protocol has none
}

var errNotLent = errors.New("not through the usher")

// serveKeys serves one program's visit to the person's agent.
func (u *Usher) serveKeys(ctx context.Context, workspace string, visit io.ReadWriter) error {
	if u.o.Machine.Keys == nil {
		return fault.New("no-keys", "ssh-add", "there is no SSH agent at the person's machine")
	}
	conn, err := u.o.Machine.Keys(ctx)
	if err != nil {
		return fmt.Errorf("reach the person's SSH agent: %w", err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	err = agent.ServeAgent(&lentAgent{agent.NewClient(conn), u, workspace, ctx}, struct {
		io.Reader
		io.Writer
	}{&agentMessages{from: visit}, visit})
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// decided is what the person has decided of a key.
func (a *lentAgent) decided(key ssh.PublicKey) Answer {
	a.usher.mu.Lock()
	defer a.usher.mu.Unlock()
	p := a.usher.places[a.workspace]
	if p == nil {
		return Never
	}
	return a.usher.consent.decided(a.workspace, p, Keys, ssh.FingerprintSHA256(key))
}

// List lists the keys that are lent. Where nothing is decided, the person is asked.
func (a *lentAgent) List() ([]*agent.Key, error) {
	all, err := a.own.List()
	if err != nil {
		return nil, err
	}
	var lent []*agent.Key
	undecided := 0
	for _, key := range all {
		switch a.decided(key) {
		case Always, Each:
			lent = append(lent, key)
		case "":
			undecided++
		}
	}
	if len(lent) > 0 || undecided == 0 {
		return lent, nil
	}
	if err := a.usher.allowed(a.ctx, Question{Workspace: a.workspace, Kind: Keys, Text: fmt.Sprintf("wants to use the %d keys of your SSH agent", undecided)}, func(string) {}); err != nil {
		return nil, nil // as where there are no keys: what asks goes on without
	}
	for _, key := range all {
		if a.decided(key) != Never {
			lent = append(lent, key)
		}
	}
	return lent, nil
}

// Sign signs with a key that is lent.
func (a *lentAgent) Sign(key ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	return a.SignWithFlags(key, data, 0)
}

// SignWithFlags signs with a key that is lent.
func (a *lentAgent) SignWithFlags(key ssh.PublicKey, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	print := ssh.FingerprintSHA256(key)
	if err := a.usher.allowed(a.ctx, Question{Workspace: a.workspace, Kind: Keys, Subject: print, Text: "wants a signature with your key " + print + ", " + purposeOf(data)}, func(string) {}); err != nil {
		return nil, err
	}
	return a.own.SignWithFlags(key, data, flags)
}

// purposeOf says what data is signed for, as far as it says so itself: a sign-in by SSH (RFC 4252, section 7) or a
// signature of a file or commit (OpenSSH's PROTOCOL.sshsig), with its digest, which tells one from another.
func purposeOf(data []byte) string {
	digest := sha256.Sum256(data)
	mark := fmt.Sprintf("SHA256:%x", digest[:8])
	var signIn struct {
		Session               []byte
		Kind                  byte
		User, Service, Method string
		Rest                  []byte `ssh:"rest"`
	}
	const userAuthRequest = 50
	if ssh.Unmarshal(data, &signIn) == nil && signIn.Kind == userAuthRequest && signIn.Method == "publickey" {
		return fmt.Sprintf("to sign in by SSH as %s (%s)", visible.Line(signIn.User, 60), mark)
	}
	const magic = "SSHSIG"
	var file struct {
		Namespace string
		Rest      []byte `ssh:"rest"`
	}
	if rest, found := bytes.CutPrefix(data, []byte(magic)); found && ssh.Unmarshal(rest, &file) == nil {
		return fmt.Sprintf("under something of the kind %s (%s)", visible.Line(file.Namespace, 60), mark)
	}
	return fmt.Sprintf("under %d bytes that do not say what they are for (%s)", len(data), mark)
}

func (a *lentAgent) Add(agent.AddedKey) error       { return errNotLent }
func (a *lentAgent) Remove(ssh.PublicKey) error     { return errNotLent }
func (a *lentAgent) RemoveAll() error               { return errNotLent }
func (a *lentAgent) Lock([]byte) error              { return errNotLent }
func (a *lentAgent) Unlock([]byte) error            { return errNotLent }
func (a *lentAgent) Signers() ([]ssh.Signer, error) { return nil, errNotLent }
func (a *lentAgent) Extension(string, []byte) ([]byte, error) {
	return nil, agent.ErrExtensionUnsupported
}

// longestMessage is how long a message to the agent may be, in bytes: what is signed is short, and
// whoever is inside can announce any length.
const longestMessage = 256 << 10

// agentMessages passes on messages of the agent's protocol, each of which begins with its length, and
// ends at one that is too long.
type agentMessages struct {
	from io.Reader
	head []byte // of the length of a message, what has come
	left uint32 // of the message
}

func (m *agentMessages) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	if m.left > 0 {
		n, err := m.from.Read(p[:min(len(p), int(m.left))])
		m.left -= uint32(n)
		return n, err
	}
	n, err := m.from.Read(p[:min(len(p), 4-len(m.head))])
	if m.head = append(m.head, p[:n]...); len(m.head) == 4 {
		m.left = binary.BigEndian.Uint32(m.head)
		m.head = nil
		if m.left > longestMessage {
			return 0, fmt.Errorf("a message of %d bytes to the SSH agent", m.left)
		}
	}
	return n, err
}
