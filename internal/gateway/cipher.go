package gateway

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	"domicile/internal/connection"

	"golang.org/x/crypto/ssh"
)

// version is the server's first line. OpenSSH's client says of its own extensions some only to
// a server whose name begins so, among them that nobody reads a command's output any more
// (eow@openssh.com): without that, "ssh NAME yes | head" never ends.
const version = "SSH-2.0-OpenSSH_compatible Domicile"

// quick are the ciphers that are taken wherever the client has them; all are those that
// OpenSSH has on by default.
var (
	quick = []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM}
	all   = append(slices.Clone(quick), ssh.CipherAES128CTR, ssh.CipherAES192CTR, ssh.CipherAES256CTR, ssh.CipherChaCha20Poly1305)
)

// What is used to agree on keys, and to sign: nothing with SHA-1 or DSA.
var (
	exchanges = []string{ssh.KeyExchangeMLKEM768X25519, ssh.KeyExchangeCurve25519, ssh.KeyExchangeECDHP256, ssh.KeyExchangeECDHP384, ssh.KeyExchangeECDHP521, ssh.KeyExchangeDH14SHA256, ssh.KeyExchangeDH16SHA512}
	signing   = []string{ssh.KeyAlgoED25519, ssh.KeyAlgoSKED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKECDSA256, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
)

// macs are used with ciphers that do not protect the data themselves: nothing with SHA-1.
var macs = []string{ssh.HMACSHA256ETM, ssh.HMACSHA512ETM, ssh.HMACSHA256, ssh.HMACSHA512}

// proposalLimit is how long a client may take to propose something before it is served
// without knowing that.
const proposalLimit = 2 * time.Second

// maxProposal bounds what a client says before keys are agreed on, in bytes.
const maxProposal = 32 << 10

// begin greets a client and looks at what it proposes, which it sends unasked, before the
// server says what it takes itself: the client's order of ciphers counts, OpenSSH puts
// AES-GCM last in it, and that is more than twice as fast as what would be taken else. So a
// client that knows it is offered nothing else; one that was told to use another cipher has
// that.
func begin(conn net.Conn, config *ssh.ServerConfig) (at net.Conn, client string, hostKeys []string, err error) {
	config.ServerVersion, config.KeyExchanges, config.PublicKeyAuthAlgorithms, config.Ciphers, config.MACs = version, exchanges, signing, all, macs
	if _, err := io.WriteString(conn, version+"\r\n"); err != nil {
		return nil, "", nil, err
	}
	from := bufio.NewReaderSize(conn, maxProposal)
	_ = conn.SetReadDeadline(time.Now().Add(proposalLimit))
	client, hostKeys, ciphers := proposed(from)
	for _, name := range ciphers {
		if slices.Contains(quick, name) {
			config.Ciphers = quick
		}
	}
	_ = conn.SetReadDeadline(time.Now().Add(handshakeLimit))
	return connection.Begun(conn, from, len(version)+2), client, hostKeys, nil
}

// proposed gives a client's greeting, and the kinds of host keys and the ciphers that it proposes, in its order,
// without taking anything of the stream: they stand in its first packet behind its first line (RFC
// 4253, sections 4.2, 6 and 7.1). None where it cannot be told.
func proposed(r *bufio.Reader) (client string, hostKeys, ciphers []string) {
	line := 0
	for n := 1; ; n++ {
		b, err := r.Peek(n)
		if err != nil || n > 4096 {
			return "", nil, nil
		}
		if b[n-1] != '\n' {
			continue
		}
		if strings.HasPrefix(string(b[line:]), "SSH-") {
			client = strings.TrimRight(string(b[line:]), "\r\n")
			line = n
			break
		}
		line = n // a client may say other lines before
	}
	head, err := r.Peek(line + 5)
	if err != nil {
		return client, nil, nil
	}
	length := int(binary.BigEndian.Uint32(head[line:]))
	if length < 20 || line+4+length > maxProposal {
		return client, nil, nil
	}
	packet, err := r.Peek(line + 4 + length)
	if err != nil {
		return client, nil, nil
	}
	body := packet[line+5:]
	const begins = 17 // the kind of the packet, and a cookie
	if body[0] != 20 || len(body) < begins {
		return client, nil, nil
	}
	body = body[begins:]
	for list := 0; list < 3; list++ { // exchanges, host keys, ciphers of the client
		if len(body) < 4 {
			return client, nil, nil
		}
		n := int(binary.BigEndian.Uint32(body))
		if n < 0 || n > len(body)-4 {
			return client, nil, nil
		}
		switch names := strings.Split(string(body[4:4+n]), ","); list {
		case 1:
			hostKeys = names
		case 2:
			return client, hostKeys, names
		}
		body = body[4+n:]
	}
	return client, nil, nil
}
