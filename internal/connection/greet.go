package connection

import (
	"bufio"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// The agent greets as an SSH server does, and says in the comment of that line (RFC 4253, section
// 4.2) that it can do without the transport: who knows nothing of it goes on with SSH. Else the
// service answers with a line of its own, and proves by its key that it is the service.
const (
	framesWord = "frames="
	begins     = "domicile-frames\r\n" // as long as beginsAlone
	// proves stands before what is signed, so that the signature is good for nothing else.
	proves = "domicile: the service opens plain frames\x00"
	// longestLine is how long a greeting may be, in bytes (RFC 4253, section 4.2).
	longestLine = 255
	// longestProof is how long a signature may be, in bytes.
	longestProof = 8 << 10
)

// private is a stream that is known to be private.
type private struct{ net.Conn }

// Private marks a stream that nobody else can read or change: one on this machine, or inside SSH or
// TLS. On others there is SSH's own transport.
func Private(stream net.Conn) net.Conn { return private{stream} }

type proof struct {
	Format string
	Blob   []byte
}

// Dial is the service's side: it greets an agent, which knows the service by its key. The agent's own
// host key is not checked: the stream is the site's own, and who could change it is root in the
// workspace, who holds that key as well.
func Dial(stream net.Conn, key ssh.Signer) (Peer, error) {
	if _, known := stream.(private); known {
		from := bufio.NewReaderSize(stream, readAhead)
		line, err := readLine(from)
		if err != nil {
			return Peer{}, err
		}
		if nonce := nonceOf(line); nonce != nil {
			return prove(stream, from, nonce, key)
		}
		stream = Begun(stream, io.MultiReader(strings.NewReader(line), from), 0)
	}
	config := &ssh.ClientConfig{User: "domicile", HostKeyCallback: ssh.InsecureIgnoreHostKey(), Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}}
	config.Ciphers = []string{ssh.CipherAES128GCM}
	config.KeyExchanges = []string{ssh.KeyExchangeCurve25519} // the cheaper one will do
	conn, channels, requests, err := ssh.NewClientConn(stream, "agent", config)
	if err != nil {
		return Peer{}, err
	}
	return OverSSH(conn, channels, requests), nil
}

// readLine reads the greeting, with its end.
func readLine(from *bufio.Reader) (string, error) {
	var line []byte
	for len(line) < longestLine {
		b, err := from.ReadByte()
		if err != nil {
			return "", err
		}
		if line = append(line, b); b == '\n' {
			return string(line), nil
		}
	}
	return "", fmt.Errorf("a greeting of more than %d bytes", longestLine)
}

// nonceOf is what the agent wants to be signed; nil: it speaks SSH alone.
func nonceOf(line string) []byte {
	_, word, found := strings.Cut(strings.TrimRight(line, "\r\n"), " "+framesWord)
	nonce, err := base64.RawURLEncoding.DecodeString(word)
	if !found || err != nil || len(nonce) != nonceLength {
		return nil
	}
	return nonce
}

const nonceLength = 32

func prove(stream net.Conn, from *bufio.Reader, nonce []byte, key ssh.Signer) (Peer, error) {
	if err := show(stream, begins, proves, nonce, key, nil); err != nil {
		return Peer{}, err
	}
	return begin(stream, from), nil
}

// show says how the stream goes on, proves that it is the service that says so, and says what comes next.
func show(stream net.Conn, begins, proves string, nonce []byte, key ssh.Signer, next []byte) error {
	signature, err := key.Sign(rand.Reader, append([]byte(proves), nonce...))
	if err != nil {
		return fmt.Errorf("sign: %w", err)
	}
	blob := ssh.Marshal(proof{signature.Format, signature.Blob})
	_, err = stream.Write(slices.Concat([]byte(begins), ssh.Marshal(struct{ B []byte }{blob}), next))
	return err
}

// errNotTheService is told of a proof that is not by the service's key.
var errNotTheService = errors.New("who came is not the service")

// Accept is the agent's side: it greets who comes over a stream, and lets in the service alone. The
// configuration is for those who speak SSH, and says who is let in there; its ServerVersion is the
// greeting. Where the service wants one thing alone on the stream there is that, and no peer.
func Accept(stream net.Conn, config *ssh.ServerConfig, service ssh.PublicKey) (Peer, *Alone, error) {
	nonce := make([]byte, nonceLength)
	if _, err := rand.Read(nonce); err != nil {
		return Peer{}, nil, err
	}
	own := *config
	own.ServerVersion += aloneWord + " " + framesWord + base64.RawURLEncoding.EncodeToString(nonce)
	line := own.ServerVersion + "\r\n"
	if _, err := io.WriteString(stream, line); err != nil {
		return Peer{}, nil, err
	}
	from := bufio.NewReaderSize(stream, readAhead)
	first, err := from.Peek(4)
	if err != nil {
		return Peer{}, nil, err
	}
	if string(first) == begins[:4] {
		alone, err := check(from, nonce, service)
		switch {
		case err != nil:
			return Peer{}, nil, err
		case alone:
			a, err := readWanted(stream, from)
			return Peer{}, a, err
		}
		return begin(stream, from), nil, nil
	}
	conn, channels, requests, err := ssh.NewServerConn(Begun(stream, from, len(line)), &own)
	if err != nil {
		return Peer{}, nil, err
	}
	return OverSSH(conn, channels, requests), nil, nil
}

// check reads a proof and tells whether it is the service's, and whether that wants one thing alone.
func check(from io.Reader, nonce []byte, service ssh.PublicKey) (alone bool, err error) {
	head := make([]byte, len(begins))
	if _, err := io.ReadFull(from, head); err != nil {
		return false, err
	}
	proves, alone := proves, string(head) == beginsAlone
	if alone {
		proves = provesAlone
	} else if string(head) != begins {
		return false, errNotTheService
	}
	blob, err := readBytes(from, longestProof)
	if err != nil {
		return false, err
	}
	var p proof
	if ssh.Unmarshal(blob, &p) != nil || service.Verify(append([]byte(proves), nonce...), &ssh.Signature{Format: p.Format, Blob: p.Blob}) != nil {
		return false, errNotTheService
	}
	return alone, nil
}
