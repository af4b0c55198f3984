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

// What a host says is compared with what is wanted, and is no more than shown: a lie harms
// nobody but its host.
func TestWhatAHostSaysOfItself(t *testing.T) {
	good := func(changes map[string]string) map[string]string {
		says := map[string]string{"id": "crew", "test": "may use it", "uname": "aarch64", "date": fmt.Sprint(time.Now().Unix()), "df": fmt.Sprint(int64(64) << 30)}
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
		"a small disk":        {good(map[string]string{"df": fmt.Sprint(int64(3) << 30)}), "disk of /var/lib/docker"},
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
