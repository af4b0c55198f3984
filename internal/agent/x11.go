package agent

import (
	"bytes"
	"context"
	"domicile/internal/listen"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"

	"golang.org/x/crypto/ssh"

	"domicile/internal/connection"
)

// x11Request asks for a display inside whose windows appear at the person's (RFC 4254, section 6.3.1).
type x11Request struct {
	Single   bool
	Protocol string
	Cookie   string // in hexadecimal digits; the client's own, not the real display's
	Screen   uint32
}

// The numbers of displays that are given, above those that a workspace may have itself; the port of a
// display is its number and 6000.
const (
	firstDisplay = 10
	mostDisplays = 200
	displayPorts = 6000
)

// mostX11 is how many windows' programs may be connected to one display.
const mostX11 = 256

// x11 makes a display for a session. It is gone with ctx. What it gives are the variables by which
// programs find it.
func x11(ctx context.Context, conn connection.Conn, owner *account, payload []byte) (map[string]string, error) {
	var q x11Request
	if err := ssh.Unmarshal(payload, &q); err != nil {
		return nil, err
	}
	cookie, err := hex.DecodeString(q.Cookie)
	if err != nil || q.Protocol != "MIT-MAGIC-COOKIE-1" || len(cookie) == 0 || len(cookie) > 256 || q.Screen > 255 {
		return nil, errors.New("a display's proof that is not known here")
	}
	listener, number, err := listenDisplay()
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { listener.Close() })
	folder, err := ownFolder(ctx, owner, "domicile-x11-")
	file := filepath.Join(folder, "authority")
	if err == nil {
		_, err = asUser(owner, func() (struct{}, error) {
			return struct{}{}, os.WriteFile(file, authority(number, q.Protocol, cookie), 0o600)
		})
	}
	if err != nil {
		listener.Close()
		return nil, fmt.Errorf("write the display's proof: %w", err)
	}
	go acceptX11(conn, listener, q.Single)
	return map[string]string{"DISPLAY": fmt.Sprintf("localhost:%d.%d", number, q.Screen), "XAUTHORITY": file}, nil
}

// listenDisplay listens on loopback at the port of a display that nobody has.
func listenDisplay() (net.Listener, int, error) {
	for number := firstDisplay; number < firstDisplay+mostDisplays; number++ {
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(displayPorts+number)))
		if err == nil {
			return l, number, nil
		}
	}
	return nil, 0, errors.New("no number is free for a display")
}

// authority is a file as programs look for the proof of a display in (Xau(3)), for whatever name the
// machine has.
func authority(number int, protocol string, cookie []byte) []byte {
	const wild = 0xffff // any family of addresses
	var b bytes.Buffer
	_ = binary.Write(&b, binary.BigEndian, uint16(wild)) // into memory it does not fail
	for _, field := range []string{"", strconv.Itoa(number), protocol, string(cookie)} {
		_ = binary.Write(&b, binary.BigEndian, uint16(len(field)))
		b.WriteString(field)
	}
	return b.Bytes()
}

// acceptX11 brings programs to the person's display (section 6.3.2). The client there looks at the
// proof that they bring.
func acceptX11(conn connection.Conn, listener net.Listener, single bool) {
	room := make(chan struct{}, mostX11)
	listener = listen.Patient(listener)
	for {
		program, err := listener.Accept()
		if err != nil {
			return
		}
		select {
		case room <- struct{}{}:
		default:
			program.Close()
			continue
		}
		go func() {
			defer func() { <-room }()
			origin, _ := program.RemoteAddr().(*net.TCPAddr)
			channel, requests, err := conn.OpenChannel("x11", ssh.Marshal(struct {
				Host string
				Port uint32
			}{origin.IP.String(), uint32(origin.Port)}))
			if err != nil {
				program.Close()
				return
			}
			go connection.Discard(requests)
			join(channel, program)
		}()
		if single {
			listener.Close()
			return
		}
	}
}
