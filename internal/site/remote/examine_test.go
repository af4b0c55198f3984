package remote

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
	"domicile/internal/site"
)

func signer(t *testing.T) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return s
}

// host is an SSH server that answers commands by their first word; what it does not know ends
// with status 1.
func host(t *testing.T, says map[string]string) *Line {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	own := signer(t)
	config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(own)
	go func() {
		for {
			stream, err := l.Accept()
			if err != nil {
				return
			}
			go serve(stream, config, says)
		}
	}()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	line := NewLine(Address{User: "crew", Host: "127.0.0.1", Port: port, Socket: usualSocket}, signer(t), string(ssh.MarshalAuthorizedKey(own.PublicKey())))
	t.Cleanup(line.Close)
	return line
}

func serve(stream net.Conn, config *ssh.ServerConfig, says map[string]string) {
	_, channels, requests, err := ssh.NewServerConn(stream, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		if says == nil {
			_ = c.Reject(ssh.Prohibited, "no commands here")
			continue
		}
		channel, asked, err := c.Accept()
		if err != nil {
			continue
		}
		go func() {
			for r := range asked {
				var command struct{ Text string }
				_ = ssh.Unmarshal(r.Payload, &command)
				_ = r.Reply(r.Type == "exec", nil)
				word, _, _ := strings.Cut(command.Text, " ")
				text, known := says[word]
				_, _ = fmt.Fprintln(channel, text)
				status := uint32(1)
				if known {
					status = 0
				}
				_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
				channel.Close()
			}
		}()
	}
}

// diskOf is what df prints of a disk with as many gigabytes free.
func diskOf(free int64) string { return fmt.Sprintf("/dev/mmcblk0p2 99999999 1 %d 1%% /", free<<20) }

// What a host says is compared with what is wanted, and is no more than shown: a lie harms
// nobody but its host.
func TestWhatAHostSaysOfItself(t *testing.T) {
	good := func(changes map[string]string) map[string]string {
		says := map[string]string{"id": "crew", "test": "may use it", "uname": "aarch64", "date": fmt.Sprint(time.Now().Unix()), "df": diskOf(64)}
		for word, text := range changes {
			says[word] = text
		}
		return says
	}
	for name, c := range map[string]struct {
		says  map[string]string
		wrong string // what is not fine; empty: nothing
	}{
		"all is well":         {good(nil), ""},
		"a clock in the past": {good(map[string]string{"date": "1000000000"}), "clock"},
		"no clock":            {good(map[string]string{"date": "yesterday"}), "clock"},
		"somebody else":       {good(map[string]string{"id": "root"}), "user"},
		"no rights":           {good(map[string]string{"test": "may not use it"}), "the engine's socket"},
		"a small disk":        {good(map[string]string{"df": diskOf(3)}), "disk of /var/lib/docker"},
		"a flood":             {good(map[string]string{"id": strings.Repeat("tide", 1<<20)}), "user"},
	} {
		t.Run(name, func(t *testing.T) {
			list, err := host(t, c.says).Examine(t.Context())
			require.NoError(t, err)
			var wrong []string
			for _, f := range list {
				assert.LessOrEqual(t, len(f.Found), 2*mostSaid)
				if !f.Fine {
					wrong = append(wrong, f.What)
					assert.NotEmpty(t, f.Remedy)
				}
			}
			assert.Equal(t, c.wrong, strings.Join(wrong, ", "))
			assert.Contains(t, list, site.Finding{What: "processor", Found: "aarch64", Fine: true})
		})
	}
}

// A host that goes away while it is looked at is told once, not for each thing that was to be
// looked at.
func TestAHostThatGoesAwayIsToldOnce(t *testing.T) {
	line := host(t, nil)
	line.Close()
	_, err := line.Examine(t.Context())
	require.Error(t, err)
	assert.Equal(t, 1, strings.Count(err.Error(), "the site of the host"), err.Error())
}

// What a host tells of its disk and its devices is read as far as it makes sense.
func TestWhatAHostHas(t *testing.T) {
	list := func(says string) []string {
		got, err := host(t, map[string]string{"find": says}).Devices(t.Context())
		require.NoError(t, err)
		return got
	}
	assert.Equal(t, []string{"/dev/ttyUSB0", "/dev/serial/by-id/usb-tide.0-port0"}, list("/dev\n/dev/ttyUSB0\n/dev/serial/by-id/usb-tide.0-port0\n/dev/../etc/shadow\n/etc/passwd\n/dev/$(id)\n/dev/\x1b[2J"))
	assert.Nil(t, list(strings.Repeat("/dev/ttyUSB0\n", mostOutput)), "of a flood nothing is known")
	for says, want := range map[string]int64{diskOf(3): 3 << 30, "": 0, "no such file": 0, "/dev/x 1 1 -5 1% /": 0, "/dev/x 1 1 9999999999999999999 1% /": 0} {
		free, known, err := host(t, map[string]string{"df": says}).DiskFree(t.Context(), "/var/lib/docker")
		require.NoError(t, err)
		assert.Equal(t, want, free, says)
		assert.Equal(t, want > 0, known, says)
	}
	_, known, err := host(t, map[string]string{"df": diskOf(3)}).DiskFree(t.Context(), "/home/crew/.quay/data")
	require.NoError(t, err)
	assert.True(t, known, "a hidden folder is a folder")
	for _, bad := range []string{"/var/../etc", "/var/-rf", "relative"} {
		_, known, err := host(t, map[string]string{"df": diskOf(3)}).DiskFree(t.Context(), bad)
		require.NoError(t, err)
		assert.False(t, known, bad)
	}
	_, known, err = host(t, map[string]string{"df": diskOf(3)}).DiskFree(t.Context(), "/var/lib/$(halt)")
	require.NoError(t, err)
	assert.False(t, known, "what is no plain path goes into no command")
}

// A host that is reached by way of another is known by its own key, and so is the other.
func TestARouteIsKnownHostByHost(t *testing.T) {
	hops, last, err := ParseRoute("ssh://crew@gate.test, ssh://mate@lock.test:2222", "one\ntwo\nthree")
	require.NoError(t, err)
	assert.Equal(t, "three", last)
	require.Len(t, hops, 2)
	assert.Equal(t, []string{"gate.test", "one", "lock.test", "two"}, []string{hops[0].Host, hops[0].Pinned, hops[1].Host, hops[1].Pinned})
	hops, last, err = ParseRoute("", "alone")
	require.NoError(t, err)
	assert.Empty(t, hops)
	assert.Equal(t, "alone", last)
	_, _, err = ParseRoute("gate.test", "one\ntwo")
	assert.Equal(t, "bad-address", fault.Code(err))

	hops, last, err = ParseRoute("ssh://crew@gate.test", "alone") // a key is missing
	require.NoError(t, err)
	assert.Equal(t, "alone", last)
	line := NewLine(Address{Host: "quay.test"}, signer(t), last, hops...)
	_, err = line.Dial(t.Context())
	assert.Equal(t, "host-not-known", fault.Code(err), "nothing is dialled by way of a host that is not known")
	assert.ErrorContains(t, err, "gate.test")
}

// A host that lets no command run is well all the same: what it would tell is not known, and its
// connection stays.
func TestAHostThatRunsNoCommand(t *testing.T) {
	line := host(t, nil)
	before, err := line.connected(t.Context())
	require.NoError(t, err)
	_, known, err := line.DiskFree(t.Context(), "/var/lib/docker")
	require.NoError(t, err)
	assert.False(t, known)
	devices, err := line.Devices(t.Context())
	require.NoError(t, err)
	assert.Nil(t, devices)
	after, err := line.connected(t.Context())
	require.NoError(t, err)
	assert.Same(t, before, after)
	line.Close()
	_, _, err = line.DiskFree(t.Context(), "/var/lib/docker")
	assert.True(t, fault.IsTransient(err), "one that is away is told")
}

// A host is not asked for its disk each time that somebody wants to know.
func TestAHostsDiskIsAskedForNowAndThen(t *testing.T) {
	says := map[string]string{"df": diskOf(3)}
	s := At(host(t, says), nil)
	s.folder = "/var/lib/docker"
	m := measured{at: s}
	for range 2 {
		free, known, err := m.Free(t.Context())
		require.NoError(t, err)
		assert.True(t, known)
		assert.Equal(t, int64(3<<30), free)
		s.line.Close() // who asked it again would get none
	}
	s.disk.at = time.Now().Add(-diskEvery)
	_, _, err := m.Free(t.Context())
	assert.Error(t, err)
}
