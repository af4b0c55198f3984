package agent

import (
	"context"
	"net"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/handed"
)

// alone serves one thing that the service asks for on a stream of its own: to dial from inside, as by a
// channel. The service gets the connection itself.
func (s *Server) alone(ctx context.Context, a *connection.Alone) {
	if a.Kind == wire.HandOver {
		s.handOver(ctx, a)
		return
	}
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
	far, err := dialInside(ctx, address)
	if err != nil {
		_ = a.Reject(ssh.ConnectionFailed, nothingAnswers(address, err))
		return
	}
	defer far.Close()
	if err := handed.WithDescriptor(far.(*net.TCPConn), a.Grant); err != nil {
		s.log.Debug("hand over a connection", "error", err)
	}
}
