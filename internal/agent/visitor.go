package agent

import (
	"context"
	"encoding/json"
	"net"
	"strings"
	"sync"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

// visitor is a connection, and where the person who uses it comes from.
type visitor struct {
	connection.Conn
	mu   sync.Mutex
	from wire.FromRequest
	as   *person // another one than the workspace's; nil: that one
}

// who is the person whose programs run for this connection; lends tells whether an usher's offers are
// for that one.
func (v *visitor) who(s *Server) (p *person, lends bool, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.as != nil {
		return v.as, false, nil
	}
	p, err = s.current()
	return p, true, err
}

func (v *visitor) comesAs(ctx context.Context, s *Server, user string) error {
	p, err := s.another(ctx, user)
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.as = p
	return nil
}

func (v *visitor) comesFrom(payload []byte) {
	v.mu.Lock()
	defer v.mu.Unlock()
	_ = json.Unmarshal(payload, &v.from) // what cannot be read is not told
}

// variables are those that SSH servers set.
func (v *visitor) variables() map[string]string {
	v.mu.Lock()
	defer v.mu.Unlock()
	client, clientPort, err := net.SplitHostPort(v.from.Client)
	server, serverPort, serverErr := net.SplitHostPort(v.from.Server)
	if err != nil || serverErr != nil {
		return nil
	}
	return map[string]string{"SSH_CONNECTION": strings.Join([]string{client, clientPort, server, serverPort}, " "), "SSH_CLIENT": strings.Join([]string{client, clientPort, serverPort}, " ")}
}
