package gateway

import (
	"context"
	"encoding/json"
	"iter"
	"maps"
	"slices"
	"sync"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/records"
)

// Where others may type, nothing inside reaches the machine that the owner sits at; and what they may have left
// there does not reach it afterwards either:
//
//   - While somebody is invited to type, new channels are rejected and open ones end.
//   - What the usher was allowed to grant counts for the epoch in which it was decided (records.Typists), which each
//     of its channels names.
//   - An SSH agent or a display that a client offers is offered until somebody is invited to type; afterwards the
//     client connects again.

// outward are the open channels that lead from workspaces to the machines of their owners.
type outward struct {
	mu   sync.Mutex
	open map[int64]map[*outwardChannel]bool // by workspace
}

// end ends those of a workspace.
func (o *outward) end(workspace int64) {
	o.mu.Lock()
	ends := slices.Collect(maps.Keys(o.open[workspace]))
	o.mu.Unlock()
	for _, c := range ends {
		c.Close()
	}
}

// workspaces are those that have some.
func (o *outward) workspaces() []int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Collect(maps.Keys(o.open))
}

// outwardChannel is an open one.
type outwardChannel struct {
	connection.Channel
	of        *outward
	workspace int64
}

// Close closes the channel.
func (c *outwardChannel) Close() error {
	c.of.mu.Lock()
	if delete(c.of.open[c.workspace], c); len(c.of.open[c.workspace]) == 0 {
		delete(c.of.open, c.workspace)
	}
	c.of.mu.Unlock()
	return c.Channel.Close()
}

// outwardNew is a channel that a program inside wants to open.
type outwardNew struct {
	connection.NewChannel
	of        *outward
	workspace int64
	extra     []byte
}

// ExtraData says in which epoch the channel is opened.
func (n outwardNew) ExtraData() []byte { return n.extra }

// Accept accepts it and keeps it among the open ones.
func (n outwardNew) Accept() (connection.Channel, connection.Requests, error) {
	channel, requests, err := n.NewChannel.Accept()
	if err != nil {
		return nil, nil, err
	}
	c := &outwardChannel{channel, n.of, n.workspace}
	n.of.mu.Lock()
	defer n.of.mu.Unlock()
	if n.of.open == nil {
		n.of.open = map[int64]map[*outwardChannel]bool{}
	}
	if n.of.open[n.workspace] == nil {
		n.of.open[n.workspace] = map[*outwardChannel]bool{}
	}
	n.of.open[n.workspace][c] = true
	return c, requests, nil
}

// typists says who else may type in a workspace.
func (s *Server) typists(ctx context.Context, workspace int64) (records.Typists, error) {
	list, err := s.Directory.Typists(ctx, []int64{workspace})
	if err == nil && len(list) != 1 {
		err = records.ErrNotFound
	}
	if err != nil {
		return records.Typists{}, err
	}
	return list[0], nil
}

// beforeGuests keeps the machine that the owner sits at from a workspace in which others may type or could type since
// the connection began.
func (s *Server) beforeGuests(ctx context.Context, w records.Workspace, channels iter.Seq[connection.NewChannel]) iter.Seq[connection.NewChannel] {
	room := make(chan struct{}, mostToldAtOnce)
	began, err := s.typists(ctx, w.ID)
	return func(yield func(connection.NewChannel) bool) {
		for n := range channels {
			if slices.Contains(reachingOut, n.ChannelType()) {
				now, failed := s.typists(ctx, w.ID)
				switch usher := n.ChannelType() == wire.WishVisit || n.ChannelType() == wire.KeysVisit; {
				case failed != nil || now.Now:
					select {
					case room <- struct{}{}:
						go func() {
							defer func() { <-room }()
							tellWhy(n, w.Name)
						}()
					default:
						_ = n.Reject(ssh.Prohibited, whyNot)
					}
					continue
				case !usher && (err != nil || now.Epoch != began.Epoch):
					_ = n.Reject(ssh.Prohibited, "somebody else was allowed to type here since this connection began: connect again")
					continue
				case usher:
					extra, _ := json.Marshal(wire.VisitExtra{Epoch: now.Epoch}) // a text always can be
					n = outwardNew{n, &s.outward, w.ID, extra}
				default:
					n = outwardNew{n, &s.outward, w.ID, n.ExtraData()}
				}
			}
			if !yield(n) {
				return
			}
		}
	}
}

// endOutward ends open channels that lead to the machines of owners where somebody else may type now.
func (s *Server) endOutward(ctx context.Context) error {
	here := s.outward.workspaces()
	if len(here) == 0 {
		return nil
	}
	list, err := s.Directory.Typists(ctx, here)
	if err != nil {
		return err
	}
	for _, t := range list {
		if t.Now {
			s.outward.end(t.Workspace)
		}
	}
	return nil
}
