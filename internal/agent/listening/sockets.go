package listening

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The networks that are looked at.
const (
	TCP = "tcp"
	UDP = "udp"
)

// Socket is one at which something may arrive.
type Socket struct {
	Network string
	Address netip.AddrPort // the unspecified address: all
	UID     uint32         // of who made it
	Inode   uint32         // by which its holders are found
}

// Sockets lists the sockets of a network at which programs wait: of TCP those that listen, of UDP
// those that are bound and not connected.
func Sockets(network string) ([]Socket, error) {
	list, err := asked(network)
	if err != nil {
		return read("/proc/net", network)
	}
	return list, nil
}

// The states of sockets that are asked for, as the kernel numbers them (tcp_states.h).
const (
	stateClose  = 7 // a datagram socket that is not connected
	stateListen = 10
)

func wanted(network string) (protocol, state uint8) {
	if network == UDP {
		return unix.IPPROTO_UDP, stateClose
	}
	return unix.IPPROTO_TCP, stateListen
}

// The kernel's messages, in the machine's own byte order (linux/inet_diag.h). Ports and addresses
// are in the network's.
type (
	socketID struct {
		SourcePort, TargetPort [2]byte
		Source, Target         [16]byte
		Interface              uint32
		Cookie                 [2]uint32
	}
	question struct {
		Family, Protocol, Extensions, _ uint8
		States                          uint32
		ID                              socketID
	}
	answer struct {
		Family, State, Timer, Retransmits uint8
		ID                                socketID
		Expires, Received, Sent, UID      uint32
		Inode                             uint32
	}
)

const sockDiagByFamily = 20

// asked asks the kernel.
func asked(network string) ([]Socket, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, fmt.Errorf("ask for listening sockets: %w", err)
	}
	defer unix.Close(fd)
	// An answer that does not come would keep the caller for ever.
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 2}); err != nil {
		return nil, fmt.Errorf("ask for listening sockets: %w", err)
	}
	var all []Socket
	for _, family := range []uint8{unix.AF_INET, unix.AF_INET6} {
		list, err := dump(fd, family, network)
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
	}
	return all, nil
}

func dump(fd int, family uint8, network string) ([]Socket, error) {
	protocol, state := wanted(network)
	const head, body = unix.SizeofNlMsghdr, int(unsafe.Sizeof(question{}))
	message := make([]byte, head+body)
	binary.NativeEndian.PutUint32(message, uint32(len(message)))
	binary.NativeEndian.PutUint16(message[4:], sockDiagByFamily)
	binary.NativeEndian.PutUint16(message[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
	*(*question)(unsafe.Pointer(&message[head])) = question{Family: family, Protocol: protocol, States: 1 << state}
	if err := unix.Sendto(fd, message, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return nil, fmt.Errorf("ask for listening sockets: %w", err)
	}
	var list []Socket
	buffer := make([]byte, 32<<10)
	for {
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read the listening sockets: %w", err)
		}
		messages, err := syscall.ParseNetlinkMessage(buffer[:n])
		if err != nil {
			return nil, fmt.Errorf("read the listening sockets: %w", err)
		}
		for _, m := range messages {
			switch {
			case m.Header.Type == unix.NLMSG_DONE:
				return list, nil
			case m.Header.Type == unix.NLMSG_ERROR && len(m.Data) >= 4:
				return nil, fmt.Errorf("read the listening sockets: %w", syscall.Errno(-int32(binary.NativeEndian.Uint32(m.Data))))
			case m.Header.Type == sockDiagByFamily && len(m.Data) >= int(unsafe.Sizeof(answer{})):
				list = append(list, (*answer)(unsafe.Pointer(&m.Data[0])).socket(network))
			}
		}
	}
}

func (a *answer) socket(network string) Socket {
	address := netip.AddrFrom4([4]byte(a.ID.Source[:4]))
	if a.Family == unix.AF_INET6 {
		address = netip.AddrFrom16(a.ID.Source)
	}
	return Socket{Network: network, Address: netip.AddrPortFrom(address.Unmap(), binary.BigEndian.Uint16(a.ID.SourcePort[:])), UID: a.UID, Inode: a.Inode}
}

// read reads what the kernel lists as text (proc(5)).
func read(folder, network string) ([]Socket, error) {
	var all []Socket
	for _, name := range []string{network, network + "6"} {
		b, err := os.ReadFile(folder + "/" + name)
		if os.IsNotExist(err) && name != network {
			continue // a kernel without IPv6
		}
		if err != nil {
			return nil, fmt.Errorf("read the listening sockets: %w", err)
		}
		all = append(all, parse(string(b), network)...)
	}
	return all, nil
}
