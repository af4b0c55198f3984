package connection

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func signer(t testing.TB) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return s
}

// stream is two ends of a stream of this machine.
func stream(t testing.TB) (near, far net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	near, err = net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	far, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { near.Close(); far.Close() })
	return near, far
}

// ways are the two ways over which a connection goes.
var ways = map[string]func(testing.TB) (service, agent Peer){
	"plain frames": func(t testing.TB) (Peer, Peer) { return meet(t, Private) },
	"SSH":          func(t testing.TB) (Peer, Peer) { return meet(t, func(c net.Conn) net.Conn { return c }) },
}

func meet(t testing.TB, of func(net.Conn) net.Conn) (service, agent Peer) {
	t.Helper()
	key, near, far := signer(t), net.Conn(nil), net.Conn(nil)
	near, far = stream(t)
	met := make(chan error, 1)
	go func() {
		var err error
		agent, _, err = Accept(far, config(t, key), key.PublicKey())
		met <- err
	}()
	service, err := Dial(of(near), key)
	require.NoError(t, err)
	require.NoError(t, <-met)
	t.Cleanup(func() { service.Close(); agent.Close() })
	return service, agent
}

// takes has an agent take all channels, and hear their requests out.
func takes(agent Peer, f func(kind string, c Channel)) {
	go Discard(agent.Requests)
	go func() {
		for n := range agent.Channels {
			c, requests, err := n.Accept()
			if err != nil {
				return
			}
			go Discard(requests)
			f(n.ChannelType(), c)
		}
	}()
}

// config lets in who has a key, over SSH.
func config(t testing.TB, key ssh.Signer) *ssh.ServerConfig {
	c := &ssh.ServerConfig{ServerVersion: "SSH-2.0-quay", PublicKeyCallback: func(_ ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
		if !bytes.Equal(k.Marshal(), key.PublicKey().Marshal()) {
			return nil, errNotTheService
		}
		return nil, nil
	}}
	c.AddHostKey(signer(t))
	return c
}

// All of a session passes: both streams whole and apart, requests with their answers, both ends.
func TestAChannelPassesAll(t *testing.T) {
	for name, meet := range ways {
		t.Run(name, func(t *testing.T) {
			service, agent := meet(t)
			service.Quiet()
			go Discard(agent.Requests)
			go func() {
				for n := range agent.Channels {
					if n.ChannelType() != "session" {
						_ = n.Reject(ssh.UnknownChannelType, "no "+n.ChannelType()+" with "+string(n.ExtraData()))
						continue
					}
					c, requests, err := n.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range requests {
							_ = r.Reply(string(r.Payload) == "tide", nil)
						}
					}()
					go func() {
						_, _ = io.Copy(c, struct{ io.Reader }{c})
						_, _ = io.WriteString(c.Stderr(), strings.Repeat("aside ", 500_000))
						_, _ = c.SendRequest("exit-status", false, []byte{0, 0, 0, 9})
						_ = c.Close()
					}()
				}
			}()
			cargo := make([]byte, 9<<20) // more than any window
			_, _ = rand.Read(cargo)
			var all sync.WaitGroup
			for range 3 {
				all.Go(func() {
					c, requests, err := service.OpenChannel("session", nil)
					if !assert.NoError(t, err) {
						return
					}
					for payload, want := range map[string]bool{"tide": true, "ebb": false} {
						ok, err := c.SendRequest("env", true, []byte(payload))
						assert.NoError(t, err)
						assert.Equal(t, want, ok)
					}
					go func() {
						_, _ = c.Write(cargo)
						_ = c.CloseWrite()
					}()
					var aside bytes.Buffer
					var reading sync.WaitGroup
					reading.Go(func() { _, _ = io.Copy(&aside, c.Stderr()) })
					back, err := io.ReadAll(c)
					assert.NoError(t, err)
					reading.Wait()
					assert.True(t, bytes.Equal(cargo, back), "%d of %d bytes", len(back), len(cargo))
					assert.Equal(t, 3_000_000, aside.Len())
					var ended []string
					for r := range requests {
						ended = append(ended, r.Type+string(r.Payload))
					}
					assert.Equal(t, []string{"exit-status\x00\x00\x00\x09"}, ended, "it comes before the end")
					_, err = c.Write([]byte("late"))
					assert.ErrorIs(t, err, io.EOF)
				})
			}
			all.Wait()
			var refused *ssh.OpenChannelError
			_, _, err := service.OpenChannel("berth", []byte("a name"))
			require.True(t, errors.As(err, &refused), "%v", err)
			assert.Equal(t, "no berth with a name", refused.Message)
			assert.Equal(t, ssh.UnknownChannelType, refused.Reason)
		})
	}
}

func TestRequestsOfTheConnection(t *testing.T) {
	for name, meet := range ways {
		t.Run(name, func(t *testing.T) {
			service, agent := meet(t)
			heard := make(chan string, 1)
			go func() {
				for r := range agent.Requests {
					if !r.WantReply {
						heard <- string(r.Payload)
						continue
					}
					_ = r.Reply(r.Type == "tide", append([]byte("re: "), r.Payload...))
				}
			}()
			var all sync.WaitGroup
			for i := range 50 {
				all.Go(func() {
					text := strings.Repeat("x", i)
					ok, answer, err := service.SendRequest("tide", true, []byte(text))
					assert.NoError(t, err)
					assert.True(t, ok)
					assert.Equal(t, "re: "+text, string(answer), "to each its own")
				})
			}
			all.Wait()
			ok, _, err := service.SendRequest("ebb", true, nil)
			require.NoError(t, err)
			assert.False(t, ok)
			_, _, err = service.SendRequest("word", false, []byte("aye"))
			require.NoError(t, err)
			assert.Equal(t, "aye", <-heard)
		})
	}
}

// An answer that comes right before the end is heard.
func TestAnAnswerBeforeTheEnd(t *testing.T) {
	for name, meet := range ways {
		t.Run(name, func(t *testing.T) {
			service, agent := meet(t)
			service.Quiet()
			go Discard(agent.Requests)
			go func() {
				for n := range agent.Channels {
					c, requests, err := n.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range requests {
							_ = r.Reply(true, nil)
							_ = c.Close()
						}
					}()
				}
			}()
			for range 2000 {
				c, requests, err := service.OpenChannel("session", nil)
				require.NoError(t, err)
				go Discard(requests)
				ok, err := c.SendRequest("exec", true, nil)
				require.NoError(t, err)
				require.True(t, ok)
				_ = c.Close()
			}
		})
	}
}

// Channels that one side closes while the other is still at it end by themselves: the connection goes on.
func TestChannelsThatAreClosedWhileTheyAreBusy(t *testing.T) {
	for name, meet := range ways {
		t.Run(name, func(t *testing.T) {
			service, agent := meet(t)
			service.Quiet()
			takes(agent, func(_ string, c Channel) {
				go func() { _, _ = io.Copy(io.Discard, c) }()
				go func() { _, _ = c.Write(make([]byte, 8<<20)) }()
				go func() {
					_, _ = io.ReadFull(c.Stderr(), make([]byte, 1)) // until it is told to go
					_, _ = c.SendRequest("exit-status", false, []byte{0, 0, 0, 0})
					_ = c.Close()
				}()
			})
			var all sync.WaitGroup
			for range 8 {
				all.Go(func() {
					for range 30 {
						c, requests, err := service.OpenChannel("session", nil)
						if !assert.NoError(t, err) {
							return
						}
						go Discard(requests)
						go func() { _, _ = c.Write(make([]byte, 8<<20)) }()
						_, _ = c.Stderr().Write([]byte("go"))
						_, _ = io.Copy(io.Discard, c)
						_, _ = c.SendRequest("signal", true, nil)
						_ = c.Close()
					}
				})
			}
			all.Wait()
			_, _, err := service.OpenChannel("session", nil)
			assert.NoError(t, err)
		})
	}
}

// A connection that ends ends all that waits for something of it.
func TestTheEndOfAConnection(t *testing.T) {
	for name, meet := range ways {
		t.Run(name, func(t *testing.T) {
			service, agent := meet(t)
			service.Quiet()
			taken := make(chan Channel, 1)
			go func() {
				for n := range agent.Channels {
					c, _, err := n.Accept()
					if err == nil {
						taken <- c
					}
				}
			}()
			c, requests, err := service.OpenChannel("session", nil)
			require.NoError(t, err)
			<-taken
			waits := map[string]func() error{
				"a reader":  func() error { _, err := c.Read(make([]byte, 1)); return err },
				"a writer":  func() error { _, err := c.Write(make([]byte, 64<<20)); return err },
				"an asker":  func() error { _, err := c.SendRequest("env", true, nil); return err },
				"a call":    func() error { _, _, err := service.SendRequest("tide", true, nil); return err },
				"a waiting": func() error { return service.Wait() },
			}
			var all sync.WaitGroup
			for what, f := range waits {
				all.Go(func() { assert.Error(t, f(), what) })
			}
			all.Go(func() {
				for range requests {
					t.Error("a request")
				}
			})
			require.NoError(t, agent.Close())
			all.Wait()
			_, _, err = service.OpenChannel("session", nil)
			assert.Error(t, err)
		})
	}
}

// Who has given up a channel waits for no answer of it.
func TestAQuestionThatIsGivenUp(t *testing.T) {
	service, agent := ways["plain frames"](t)
	service.Quiet()
	go func() {
		for n := range agent.Channels {
			_, _, _ = n.Accept() // and says nothing more
		}
	}()
	c, _, err := service.OpenChannel("session", nil)
	require.NoError(t, err)
	asked := make(chan error)
	go func() { _, err := c.SendRequest("env", true, nil); asked <- err }()
	require.NoError(t, c.Close())
	assert.ErrorIs(t, <-asked, io.EOF)
}

// Who does not read holds up that channel alone.
func TestAChannelThatNobodyReads(t *testing.T) {
	service, agent := ways["plain frames"](t)
	service.Quiet()
	takes(agent, func(kind string, c Channel) {
		if kind == "echo" {
			go func() { _, _ = io.Copy(c, c) }()
		}
	})
	full, _, err := service.OpenChannel("silent", nil)
	require.NoError(t, err)
	wrote := make(chan int)
	go func() {
		n, _ := full.Write(make([]byte, 10<<20))
		wrote <- n
	}()
	c, _, err := service.OpenChannel("echo", nil)
	require.NoError(t, err)
	for range 100 {
		_, err := c.Write([]byte("still here"))
		require.NoError(t, err)
		_, err = io.ReadFull(c, make([]byte, 10))
		require.NoError(t, err)
	}
	require.NoError(t, full.Close())
	assert.LessOrEqual(t, <-wrote, window, "no more is under way than is allowed")
}

// FuzzMessages lets an agent say anything: the service ends the connection or goes on, holds no more
// than a window of it, and is not brought down.
func FuzzMessages(f *testing.F) {
	frame := func(m any) []byte {
		b := ssh.Marshal(m)
		return append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...)
	}
	f.Add(frame(openedMessage{To: 0, From: 1, Window: 9, Most: 9}))
	f.Add(append(frame(openedMessage{To: 0, From: 1, Window: 9, Most: 9}), []byte("\x00\x00\x00\x0a\x5e\x00\x00\x00\x00\x00\x00\x00\x01x")...))
	f.Add(append(frame(openedMessage{To: 0, From: 1, Window: 9, Most: 9}), frame(requestMessage{To: 0, Type: "exit-status", WantReply: true})...))
	f.Add(append(frame(openedMessage{To: 0, From: 1, Window: 1 << 31, Most: 9}), frame(adjustMessage{0, 1 << 31})...))
	f.Add(append(frame(openFailure{To: 0, Reason: 1, Message: "no"}), frame(closeMessage{0})...))
	f.Add(append(frame(openMessage{Type: "visit", From: 7, Window: 1, Most: 1}), frame(globalRequest{Type: "x", WantReply: true})...))
	f.Add(frame(globalSuccess{[]byte("unasked")}))
	f.Add([]byte("\xff\xff\xff\xff\x5e"))
	f.Add([]byte("\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, said []byte) {
		near, far := net.Pipe()
		p := New(near)
		p.Quiet()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		go func() {
			_, _ = far.Write(said)
			far.Close()
		}()
		c, requests, err := p.OpenChannel("session", nil)
		if err == nil {
			go Discard(requests)
			b, _ := io.ReadAll(c)
			assert.LessOrEqual(t, len(b), len(said))
		}
		assert.Error(t, p.Wait())
	})
}
