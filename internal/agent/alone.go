package agent

import (
	"context"
	"net"

	"golang.org/x/crypto/ssh"

	"domicile/internal/connection"
	"domicile/internal/splice"
)

// alone serves one thing that the service asks for on a stream of its own: to dial from inside, as by a
// channel.
func (s *Server) alone(ctx context.Context, a *connection.Alone) {
	if a.Kind != "direct-tcpip" {
		_ = a.Reject(ssh.UnknownChannelType, "not alone")
		return
	}
	var t tcpTarget
	address, wrong := t.address(a.Extra)
	if wrong != "" {
		_ = a.Reject(ssh.ConnectionFailed, wrong)
		return
	}
	far, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		_ = a.Reject(ssh.ConnectionFailed, nothingAnswers(address, err))
		return
	}
	defer far.Close()
	near, err := a.Accept()
	if err != nil {
		return
	}
	splice.Sockets(near, far.(*net.TCPConn), s.use.now)
}
