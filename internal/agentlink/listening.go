package agentlink

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/netip"
	"slices"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/fault"
	"domicile/internal/visible"
)

const (
	// longestReport bounds what an agent says of what listens, in bytes.
	longestReport = 2 << 20
	// reportsApart is how long nothing more is read after a report: whoever is root inside can send
	// any number.
	reportsApart = 200 * time.Millisecond
	longestName  = 64  // of a user or a process, in characters
	longestLine  = 300 // of a command, in characters
)

// Listening calls f with what listens inside, at first and at each change, until ctx ends or the
// connection does. What the agent says is trusted in nothing but its form.
func (l *Link) Listening(ctx context.Context, f func(wire.ListeningReport)) error {
	channel, requests, err := l.open(ctx, wire.Listening, wire.ListeningRequest{UDP: true})
	if err != nil {
		return err
	}
	defer channel.Close()
	stop := context.AfterFunc(ctx, func() { channel.Close() })
	defer stop()
	go connection.Discard(requests)
	return Reports(ctx, channel, f)
}

// Reports calls f with each report of what listens that an agent writes, until ctx ends or there are
// no more; who closes the reader when ctx ends is the caller.
func Reports(ctx context.Context, r io.Reader, f func(wire.ListeningReport)) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 4<<10), longestReport)
	for lines.Scan() {
		var report wire.ListeningReport
		if err := json.Unmarshal(lines.Bytes(), &report); err != nil {
			return fault.New("agent-unreachable", "stop and start the workspace", "what the workspace's agent says of its ports cannot be read: %v", err)
		}
		f(proper(report))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(reportsApart):
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err := lines.Err(); err != nil {
		return fault.Transient(err, "agent-unreachable", "", "the connection to the workspace's agent broke")
	}
	return fault.Transient(io.ErrUnexpectedEOF, "agent-unreachable", "", "the connection to the workspace's agent broke")
}

// proper leaves out what cannot be, and cuts what is too long.
func proper(r wire.ListeningReport) wire.ListeningReport {
	if len(r.Listeners) > wire.MostListeners {
		r.Listeners, r.More = r.Listeners[:wire.MostListeners], true
	}
	r.Listeners = slices.DeleteFunc(r.Listeners, func(x wire.Listener) bool {
		return x.Port < 1 || x.Port > 65535 || x.Network != "tcp" && x.Network != "udp"
	})
	for i := range r.Listeners {
		x := &r.Listeners[i]
		x.Addresses = slices.DeleteFunc(x.Addresses, func(a string) bool {
			_, err := netip.ParseAddr(a)
			return err != nil
		})
		x.User, x.Process, x.Command = visible.Line(x.User, longestName), visible.Line(x.Process, longestName), visible.Line(x.Command, longestLine)
	}
	return r
}
