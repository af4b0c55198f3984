package agent

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/listening"
	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

// lookEvery is how often it is looked who listens, while somebody wants to know: a person sees a
// program that begins within a second, and nothing else happens meanwhile.
const lookEvery = 400 * time.Millisecond

// listening tells a service which programs listen, until it closes the channel.
func (s *Server) listening(ctx context.Context, new connection.NewChannel) {
	var q wire.ListeningRequest
	if err := json.Unmarshal(new.ExtraData(), &q); err != nil {
		_ = new.Reject(ssh.ConnectionFailed, "cannot read the request: "+err.Error())
		return
	}
	channel, requests, err := new.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		connection.Discard(requests)
		cancel() // the service has closed it
	}()
	Listens(ctx, channel, q.UDP, s.log)
}

// Listens writes which programs listen in the container it runs in, a line of JSON (a
// wire.ListeningReport) at first and at each change, until ctx ends or out takes no more.
func Listens(ctx context.Context, to io.Writer, udp bool, log *slog.Logger) {
	look := lookout{networks: []string{listening.TCP}, known: map[uint32]listening.Process{}}
	if udp {
		look.networks = append(look.networks, listening.UDP)
	}
	out := json.NewEncoder(to)
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	wrong := ""
	for first := true; ; first = false {
		report, changed, err := look.again()
		if err != nil && err.Error() != wrong { // it is looked again and again
			wrong = err.Error()
			log.Warn("look who listens", "error", err)
		}
		if first || changed {
			if out.Encode(report) != nil {
				return
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// lookout remembers what it saw last.
type lookout struct {
	networks []string
	last     []listening.Socket
	known    map[uint32]listening.Process // by inode; those whose holder cannot be seen too
}

// again looks, and tells whether there is something else than before.
func (l *lookout) again() (report wire.ListeningReport, changed bool, err error) {
	var now []listening.Socket
	for _, network := range l.networks {
		list, err := listening.Sockets(network)
		if err != nil {
			return report, false, err
		}
		now = append(now, list...)
	}
	now = slices.DeleteFunc(now, func(s listening.Socket) bool { return s.Address.Addr() == resolver || s.Address.Port() == 0 })
	slices.SortFunc(now, func(a, b listening.Socket) int {
		return cmp.Or(cmp.Compare(a.Network, b.Network), a.Address.Compare(b.Address), cmp.Compare(a.Inode, b.Inode))
	})
	if l.last != nil && slices.Equal(now, l.last) {
		return report, false, nil
	}
	l.last = append([]listening.Socket{}, now...)
	l.learn()
	return l.report(), true, nil
}

// resolver is where an engine's own name server listens in a container's network.
var resolver = netip.MustParseAddr("127.0.0.11")

// mostUsers is of how many users the processes are looked through at a time: whoever is root inside
// can take any number. Sockets of the others are told without their programs.
const mostUsers = 16

// learn finds who holds the sockets that were not there before. What a user's processes have open,
// that user may see: in a container even root may see no other's.
func (l *lookout) learn() {
	fresh, users := map[uint32]bool{}, map[uint32]bool{}
	for _, s := range l.last {
		if _, known := l.known[s.Inode]; !known {
			fresh[s.Inode], users[s.UID] = true, true
		}
	}
	still := map[uint32]listening.Process{}
	for _, s := range l.last {
		still[s.Inode] = l.known[s.Inode]
	}
	l.known = still
	if len(fresh) == 0 {
		return
	}
	found := listening.Holders("/proc", fresh)
	delete(users, uint32(os.Getuid()))
	looked := 0
	for uid := range users {
		if looked++; looked > mostUsers {
			break
		}
		a, err := lookupAccount(strconv.FormatUint(uint64(uid), 10))
		if err != nil {
			continue
		}
		theirs, _ := asUser(a, func() (map[uint32]listening.Process, error) { return listening.Holders("/proc", fresh), nil })
		for inode, p := range theirs {
			found[inode] = p
		}
	}
	for inode, p := range found {
		l.known[inode] = p
	}
}

// report puts together what listens at one port. What the agent itself holds is the person's other
// machine, or the way in: no program of the workspace's.
func (l *lookout) report() wire.ListeningReport {
	r := wire.ListeningReport{Listeners: []wire.Listener{}}
	names := map[uint32]string{}
	for _, s := range l.last {
		holder := l.known[s.Inode]
		if holder.PID == os.Getpid() {
			continue
		}
		address, port := s.Address.Addr().String(), int(s.Address.Port())
		i := slices.IndexFunc(r.Listeners, func(x wire.Listener) bool { return x.Network == s.Network && x.Port == port })
		if i < 0 {
			if len(r.Listeners) == wire.MostListeners {
				r.More = true
				continue
			}
			if _, known := names[s.UID]; !known {
				names[s.UID] = strconv.FormatUint(uint64(s.UID), 10)
				if a, err := lookupAccount(names[s.UID]); err == nil {
					names[s.UID] = a.name
				}
			}
			r.Listeners = append(r.Listeners, wire.Listener{Network: s.Network, Port: port, Addresses: []string{address}, User: names[s.UID], PID: holder.PID, Process: holder.Name, Command: holder.Command})
			continue
		}
		x := &r.Listeners[i]
		if !slices.Contains(x.Addresses, address) {
			x.Addresses = append(x.Addresses, address)
		}
		if x.PID == 0 {
			x.PID, x.Process, x.Command = holder.PID, holder.Name, holder.Command
		}
	}
	slices.SortStableFunc(r.Listeners, func(a, b wire.Listener) int {
		return cmp.Or(cmp.Compare(a.Port, b.Port), cmp.Compare(a.Network, b.Network))
	})
	return r
}
