package listening

import (
	"net"
	"net/netip"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// held makes sockets of every kind, and tells their addresses.
func held(t *testing.T) (tcp, udp, others []netip.AddrPort) {
	t.Helper()
	for _, at := range []string{"127.0.0.1:0", "0.0.0.0:0", "[::1]:0", "[::]:0"} {
		l, err := net.Listen("tcp", at)
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		tcp = append(tcp, netip.MustParseAddrPort(l.Addr().String()))
		p, err := net.ListenPacket("udp", at)
		require.NoError(t, err)
		t.Cleanup(func() { p.Close() })
		udp = append(udp, netip.MustParseAddrPort(p.LocalAddr().String()))
	}
	// Neither of these waits for anybody: a connection, and a connected datagram socket.
	c, err := net.Dial("tcp", tcp[0].String())
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	d, err := net.Dial("udp", udp[0].String())
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	others = []netip.AddrPort{netip.MustParseAddrPort(c.LocalAddr().String()), netip.MustParseAddrPort(d.LocalAddr().String())}
	for _, list := range [][]netip.AddrPort{tcp, udp} {
		for i, a := range list {
			list[i] = netip.AddrPortFrom(a.Addr().Unmap(), a.Port())
		}
	}
	return tcp, udp, others
}

// Both ways to look find every kind of listening socket, and no other.
func TestWhatListensIsFound(t *testing.T) {
	tcp, udp, others := held(t)
	text := func(network string) ([]Socket, error) { return read("/proc/net", network) }
	for name, look := range map[string]func(string) ([]Socket, error){"the kernel is asked": asked, "its tables are read": text} {
		for network, want := range map[string][]netip.AddrPort{TCP: tcp, UDP: udp} {
			t.Run(name+", "+network, func(t *testing.T) {
				list, err := look(network)
				require.NoError(t, err)
				for _, s := range list {
					assert.NotContains(t, others, s.Address)
				}
				inodes := map[uint32]bool{}
				for _, w := range want {
					i := slices.IndexFunc(list, func(s Socket) bool { return s.Address == w })
					require.GreaterOrEqual(t, i, 0, "%s is missing", w)
					assert.Equal(t, network, list[i].Network)
					assert.Equal(t, uint32(os.Getuid()), list[i].UID)
					inodes[list[i].Inode] = true
				}
				assert.Len(t, inodes, len(want))
				holders := Holders("/proc", inodes)
				for inode := range inodes {
					assert.Equal(t, os.Getpid(), holders[inode].PID)
					assert.Contains(t, holders[inode].Command, "listening.test")
					assert.Equal(t, "listening.test", holders[inode].Name)
				}
			})
		}
	}
}

func TestATableOfSockets(t *testing.T) {
	const head = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n"
	for name, c := range map[string]struct {
		line string
		want []Socket
	}{
		"a listener":             {"   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000  1000        0 4711 1 0 100 0\n", []Socket{{TCP, netip.MustParseAddrPort("127.0.0.1:8080"), 1000, 4711}}},
		"of version 6":           {"   0: 00000000000000000000000001000000:1F90 00000000000000000000000000000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 7 1 0 100 0\n", []Socket{{TCP, netip.MustParseAddrPort("[::1]:8080"), 0, 7}}},
		"a connection":           {"   1: 0100007F:1F90 0100007F:A0B2 01 00000000:00000000 00:00000000 00000000  1000        0 4712 1 0 100 0\n", nil},
		"an address too short":   {"   0: 00007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000  1000        0 4711 1 0 100 0\n", nil},
		"a port that is no port": {"   0: 0100007F:XXXX 00000000:0000 0A 00000000:00000000 00:00000000 00000000  1000        0 4711 1 0 100 0\n", nil},
		"cut off":                {"   0: 0100007F:1F90 00000000:0000 0A\n", nil},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, parse(head+c.line, TCP)) })
	}
}

func FuzzATableOfSockets(f *testing.F) {
	f.Add("   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000  1000        0 4711 1 0 100 0\n")
	f.Fuzz(func(t *testing.T, table string) {
		for _, s := range parse(table, TCP) {
			assert.True(t, s.Address.IsValid())
		}
	})
}

// The two ways to look, beside each other: with many connections the tables grow.
func BenchmarkLook(b *testing.B) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			b.Cleanup(func() { c.Close() })
		}
	}()
	for range 500 {
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(b, err)
		b.Cleanup(func() { c.Close() })
	}
	b.Run("asked", func(b *testing.B) {
		for b.Loop() {
			_, err := asked(TCP)
			require.NoError(b, err)
		}
	})
	b.Run("read", func(b *testing.B) {
		for b.Loop() {
			_, err := read("/proc/net", TCP)
			require.NoError(b, err)
		}
	})
}
