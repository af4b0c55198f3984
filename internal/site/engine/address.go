package engine

import (
	"context"
	"net"
	"strings"

	"domicile/internal/fault"
)

// Address reads the address of an engine, unix:///PATH or tcp://HOST:PORT: how it is
// reached, and whether it may have the same files as this machine.
func Address(text string) (dial func(ctx context.Context) (net.Conn, error), near bool, err error) {
	network, at, found := strings.Cut(text, "://")
	if !found || network != "unix" && network != "tcp" || at == "" {
		return nil, false, fault.New("bad-address", "give unix:///PATH or tcp://HOST:PORT", "%q is no address of an engine", text)
	}
	return func(ctx context.Context) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, at)
	}, network == "unix", nil
}
