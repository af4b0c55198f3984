package agentlink

import (
	"context"
	"fmt"
	"net"
	"os"
	"sync"
	"syscall"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/fault"
	"domicile/internal/splice"
)

// mostVisitors is how many may be at one door at a time. Whoever is root inside can send any
// number.
const mostVisitors = 64

// Door has whoever comes to a socket inside be brought here, as long as the link lasts: they come
// out of the listener. It services what the agent opens and asks; all else is refused.
func (l *Link) Door(ctx context.Context, socket string) (net.Listener, error) {
	d := &visitors{link: l, came: make(chan net.Conn), over: make(chan struct{}), room: make(chan struct{}, mostVisitors)}
	go connection.Discard(l.Requests)
	go d.receive()
	var answer wire.DoorReply
	err := l.call(ctx, callLimit, wire.Door, wire.DoorRequest{Socket: socket}, &answer)
	if err == nil && answer.Error != "" {
		err = fault.New("door-closed", "rebuild the workspace: domicile rebuild", "the workspace's agent cannot open the door: %s", answer.Error)
	}
	if err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

// visitors is the listener of a door.
type visitors struct {
	link *Link
	came chan net.Conn
	over chan struct{} // closed when the link is
	room chan struct{}
	once sync.Once
}

func (d *visitors) receive() {
	defer close(d.over)
	for c := range d.link.Channels {
		if c.ChannelType() != wire.Visit {
			_ = c.Reject(ssh.Prohibited, "not here")
			continue
		}
		select {
		case d.room <- struct{}{}:
			go d.take(c)
		default:
			_ = c.Reject(ssh.ResourceShortage, fmt.Sprintf("%d are at this door already", mostVisitors))
		}
	}
}

// take joins a visitor to a socket, which has deadlines and two ends as an HTTP server wants them.
func (d *visitors) take(c connection.NewChannel) {
	defer func() { <-d.room }()
	near, far, err := socketPair()
	if err != nil {
		_ = c.Reject(ssh.ResourceShortage, err.Error())
		return
	}
	channel, requests, err := c.Accept()
	if err != nil {
		near.Close()
		far.Close()
		return
	}
	go connection.Discard(requests)
	select {
	case d.came <- near:
	case <-d.over:
		near.Close()
	}
	defer far.Close()
	defer channel.Close()
	splice.Both(far, channel)
}

// socketPair makes two ends of a stream in this process.
func socketPair() (near, far *net.UnixConn, err error) {
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("make a pair of sockets: %w", err)
	}
	var ends [2]*net.UnixConn
	for i, number := range pair {
		file := os.NewFile(uintptr(number), "a visitor")
		conn, connErr := net.FileConn(file) // which has a number of its own
		file.Close()
		if connErr != nil {
			err = connErr
			continue
		}
		ends[i] = conn.(*net.UnixConn)
	}
	if err != nil {
		for _, end := range ends {
			if end != nil {
				end.Close()
			}
		}
		return nil, nil, fmt.Errorf("make a pair of sockets: %w", err)
	}
	return ends[0], ends[1], nil
}

// Accept gives the next visitor; net.ErrClosed: the link is over.
func (d *visitors) Accept() (net.Conn, error) {
	select {
	case conn := <-d.came:
		return conn, nil
	case <-d.over:
		return nil, net.ErrClosed
	}
}

// Close closes the link, and with it the door.
func (d *visitors) Close() error {
	var err error
	d.once.Do(func() { err = d.link.Close() })
	return err
}

// Addr names the door.
func (d *visitors) Addr() net.Addr { return &net.UnixAddr{Name: "a workspace's door", Net: "unix"} }
