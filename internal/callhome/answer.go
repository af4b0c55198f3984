package callhome

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"domicile/internal/listen"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// Call is an instance that calls, by its own account.
type Call struct {
	Token string
	Proof []byte // of its first call
	Key   ed25519.PublicKey
}

// Answerer answers the calls of instances.
type Answerer struct {
	Key ed25519.PrivateKey // by which instances know the service
	// Admit tells whether a call is that of an instance which was ordered.
	Admit func(ctx context.Context, c Call) error
	// Take takes the connection of an instance that was admitted.
	Take func(c Call, conn net.Conn)
	// Refused is told of calls that were not; nil: nobody is.
	Refused func(from net.Addr, err error)
}

const (
	// Limits of calls that have not proved yet whose they are: anybody who reaches the port may make them.
	maxNewcomers         = 200
	maxNewcomersByPrefix = 32
	mostHello            = 4 << 10 // bytes
)

// Serve answers until the listener is closed.
func (a *Answerer) Serve(ctx context.Context, l net.Listener) error {
	own, err := certificate(a.Key)
	if err != nil {
		return err
	}
	settings := &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{own}, ClientAuth: tls.RequireAnyClientCert, SessionTicketsDisabled: true}
	newcomers := &listen.Newcomers{Total: maxNewcomers, ByPrefix: maxNewcomersByPrefix}
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("wait for calls of instances: %w", err)
		}
		admitted, ok := newcomers.Admit(conn)
		if !ok {
			conn.Close() // it calls again
			continue
		}
		go func() {
			defer admitted()
			if err := a.answer(ctx, tls.Server(conn, settings)); err != nil {
				conn.Close()
				if a.Refused != nil {
					a.Refused(conn.RemoteAddr(), err)
				}
			}
		}()
	}
}

// answer hears who calls, and takes the connection where that was ordered.
func (a *Answerer) answer(ctx context.Context, conn *tls.Conn) error {
	ctx, cancel := context.WithTimeout(ctx, helloLimit)
	defer cancel()
	if err := errors.Join(conn.SetDeadline(time.Now().Add(helloLimit)), conn.HandshakeContext(ctx)); err != nil {
		return err
	}
	shown := conn.ConnectionState().PeerCertificates
	key, is := shown[0].PublicKey.(ed25519.PublicKey)
	if !is {
		return errors.New("it shows a key that no instance has")
	}
	line, err := readLine(conn)
	if err != nil {
		return fmt.Errorf("hear who calls: %w", err)
	}
	var h hello
	if err := json.Unmarshal(line, &h); err != nil {
		return fmt.Errorf("hear who calls: %w", err)
	}
	c := Call{Token: h.Token, Proof: h.Proof, Key: key}
	if err := a.Admit(ctx, c); err != nil {
		return err
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return err
	}
	a.Take(c, conn)
	return nil
}

// readLine reads the first line and nothing behind it.
func readLine(conn net.Conn) ([]byte, error) {
	var line bytes.Buffer
	for b := make([]byte, 1); line.Len() < mostHello; {
		if _, err := io.ReadFull(conn, b); err != nil {
			return nil, err
		}
		if b[0] == '\n' {
			return line.Bytes(), nil
		}
		line.WriteByte(b[0])
	}
	return nil, errors.New("its first line is too long")
}
