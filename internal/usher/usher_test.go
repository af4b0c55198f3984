package usher

import (
	"context"
	"domicile/internal/fault"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink/linktest"
	"domicile/internal/client"
	"domicile/internal/connection"
)

// harbour is a service whose workspaces the test makes; whoever comes to a port inside is told
// where that is.
type harbour struct {
	t       *testing.T
	mu      sync.Mutex
	list    map[string]client.WorkspaceState
	ports   map[string][]client.Port
	unknown bool
	silent  map[string]bool // workspaces of whose ports nothing is told
	slow    map[string]chan struct{}
	asked   int
	away    bool
	// signedOut is that the person's token counts no more.
	signedOut atomic.Bool
	broken    context.CancelFunc
	met       map[string]connection.Conn // the agents of workspaces
	made      time.Time
	lent      chan string // to which an usher said that it lends
	older     bool        // their agents are of an earlier version
	events    chan client.Event
}

func newHarbour(t *testing.T) *harbour {
	return &harbour{t: t, list: map[string]client.WorkspaceState{}, ports: map[string][]client.Port{}, events: make(chan client.Event, 1000), met: map[string]connection.Conn{}, lent: make(chan string, 1000)}
}

var errAway = errors.New("the service is away")

func (h *harbour) Workspaces(context.Context) (list []client.Workspace, _ error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.away {
		return nil, errAway
	}
	for name, state := range h.list {
		list = append(list, client.Workspace{Name: name, State: state, Created: h.made})
	}
	return list, nil
}

func (h *harbour) Ports(_ context.Context, workspace string) (client.Ports, error) {
	h.mu.Lock()
	slow := h.slow[workspace]
	h.mu.Unlock()
	if slow != nil {
		<-slow
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.asked++
	if h.away || h.silent[workspace] {
		return client.Ports{}, errAway
	}
	return client.Ports{Workspace: workspace, Known: !h.unknown, Ports: slices.Clone(h.ports[workspace])}, nil
}

func (h *harbour) Events(ctx context.Context, f func(client.Event)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	h.mu.Lock()
	away := h.away
	h.broken = cancel
	h.mu.Unlock()
	if away {
		return errAway
	}
	if h.signedOut.Load() {
		return fault.New("not-signed-in", "domicile login", "the token does not count")
	}
	f(client.Event{Type: "look"})
	for {
		select {
		case <-ctx.Done():
			return errAway
		case e := <-h.events:
			f(e)
		}
	}
}

func (h *harbour) LongSSH(ctx context.Context, workspace string) (*ssh.Client, error) {
	return h.SSH(ctx, workspace)
}

func (h *harbour) SSH(_ context.Context, workspace string) (*ssh.Client, error) {
	requests := func(r *connection.Request) {
		if r.Type == wire.Lend && !h.older {
			_ = r.Reply(true, []byte("{}"))
			h.lent <- workspace
			return
		}
		_ = r.Reply(r.Type == "tcpip-forward" || r.Type == "cancel-tcpip-forward", nil)
	}
	met := func(c connection.Conn) {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.met[workspace] = c
	}
	stream := linktest.Agent{Requests: requests, Met: met, Channels: func(c connection.NewChannel) {
		var target struct {
			Host string
			Port uint32
			Rest []byte `ssh:"rest"`
		}
		_ = ssh.Unmarshal(c.ExtraData(), &target)
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go connection.Discard(requests)
		fmt.Fprintf(channel, "%s %s:%d", workspace, target.Host, target.Port)
		channel.Close()
	}}.Stream(h.t)
	c, channels, asked, err := ssh.NewClientConn(stream, "", &ssh.ClientConfig{HostKeyCallback: ssh.InsecureIgnoreHostKey(), Auth: []ssh.AuthMethod{ssh.PublicKeys(linktest.Signer(h.t))}})
	if err != nil {
		return nil, err
	}
	return ssh.NewClient(c, channels, asked), nil
}

// runs has a workspace run with programs that listen at ports.
func (h *harbour) runs(workspace string, ports ...client.Port) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.list[workspace], h.ports[workspace] = client.WorkspaceStateReady, ports
	h.events <- client.Event{Type: "workspace", Workspace: workspace}
}

// set changes the harbour, and tells of it.
func (h *harbour) set(change func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	change()
	h.events <- client.Event{Type: "workspace"}
}

func listens(port int, change ...func(*client.Port)) client.Port {
	p := client.Port{Port: strconv.Itoa(port), Listener: &client.Listener{Network: client.Tcp}}
	for _, f := range change {
		f(&p)
	}
	return p
}

// free is a port of loopback that nobody has.
func free(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// kept is an usher at work.
type kept struct {
	*Usher
	said, opened chan string
	stop         func()
}

func keep(t *testing.T, h *harbour, memory string) *kept {
	t.Helper()
	k := &kept{said: make(chan string, 1000), opened: make(chan string, 1000)}
	u, err := New(Options{Service: h, Address: "http://harbour", Suffix: "domicile", Memory: memory, Say: func(s string) { k.said <- s },
		Machine: Machine{Browse: func(_ context.Context, address string) error { k.opened <- address; return nil }}})
	require.NoError(t, err)
	k.Usher = u
	ctx, cancel := context.WithCancel(t.Context())
	over := make(chan error, 1)
	go func() { over <- u.Serve(ctx) }()
	k.stop = sync.OnceFunc(func() {
		cancel()
		require.NoError(t, <-over)
	})
	t.Cleanup(k.stop)
	return k
}

// asks tells who answers at a port of this machine; empty: nobody.
func asks(port int) string {
	c, err := net.DialTimeout("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), time.Second)
	if err != nil {
		return ""
	}
	defer c.Close()
	b, _ := io.ReadAll(c)
	return string(b)
}

func eventually(t *testing.T, port int, want string) {
	t.Helper()
	require.Eventually(t, func() bool { return asks(port) == want }, 10*time.Second, 5*time.Millisecond, "port %d: %q is wanted, %q answers", port, want, asks(port))
}

func TestPortsComeAndGo(t *testing.T) {
	h, memory := newHarbour(t), filepath.Join(t.TempDir(), "ports.json")
	one, database := free(t), free(t)
	h.runs("timetable", listens(one), client.Port{Port: fmt.Sprint("db:", database)}, client.Port{Port: "db:9", Known: new(true)}, client.Port{Port: "9"}, client.Port{Port: "10", Listener: &client.Listener{Network: client.Udp}})
	k := keep(t, h, memory)
	eventually(t, one, fmt.Sprintf("timetable localhost:%d", one))
	eventually(t, database, fmt.Sprintf("timetable db:%d", database))
	s := k.Status()
	require.Len(t, s.Places, 1)
	assert.Equal(t, "timetable.domicile", s.Places[0].Address)
	assert.Len(t, s.Places[0].Ports, 2, "what nobody listens at, and datagrams, are not offered")
	assert.Equal(t, fmt.Sprint("localhost:", one), s.Local("timetable", strconv.Itoa(one)))

	// Another workspace has the same port.
	h.runs("fares", listens(one))
	var second int
	require.Eventually(t, func() bool {
		_, text, found := strings.Cut(k.Status().Local("fares", strconv.Itoa(one)), ":")
		second, _ = strconv.Atoi(text)
		return found
	}, 10*time.Second, 5*time.Millisecond)
	assert.NotEqual(t, one, second)
	eventually(t, second, fmt.Sprintf("fares localhost:%d", one))
	eventually(t, one, fmt.Sprintf("timetable localhost:%d", one))

	// A program ends; then its workspace is gone for a while: what others have stays.
	h.set(func() { h.ports["timetable"] = nil })
	eventually(t, one, "")
	eventually(t, second, fmt.Sprintf("fares localhost:%d", one))

	// After a restart of the usher both are where they were.
	k.stop()
	eventually(t, second, "")
	h.runs("timetable", listens(one))
	keep(t, h, memory)
	eventually(t, one, fmt.Sprintf("timetable localhost:%d", one))
	eventually(t, second, fmt.Sprintf("fares localhost:%d", one))
}

func TestAPortThatMustHaveItsNumber(t *testing.T) {
	h := newHarbour(t)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	port := taken.Addr().(*net.TCPAddr).Port
	h.runs("quayboard", listens(port, func(p *client.Port) { p.RequireLocalPort = new(true) }))
	k := keep(t, h, filepath.Join(t.TempDir(), "ports.json"))
	said := <-k.said
	assert.Equal(t, fmt.Sprintf("quayboard: port %d is not offered here: it must have the same number, and another program of this machine has that port", port), said)
	assert.Equal(t, said, k.Status().Places[0].Ports[0].Reason)
	require.NoError(t, taken.Close())
	h.runs("quayboard", listens(port, func(p *client.Port) { p.RequireLocalPort = new(true) }))
	eventually(t, port, fmt.Sprintf("quayboard localhost:%d", port))
}

func TestWhatIsDoneWhenAProgramBegins(t *testing.T) {
	h := newHarbour(t)
	does := func(what client.PortOnAutoForward) client.Port {
		return listens(free(t), func(p *client.Port) { p.OnAutoForward, p.Label, p.Protocol = &what, new("Quay"), new("http") })
	}
	notify, silent, ignore, once := does(client.Notify), does(client.Silent), does(client.Ignore), does(client.OpenBrowserOnce)
	h.runs("w", notify, silent, ignore, once)
	k := keep(t, h, filepath.Join(t.TempDir(), "ports.json"))
	said := []string{<-k.said, <-k.said}
	assert.ElementsMatch(t, []string{
		fmt.Sprintf("w: Quay (port %s) is at http://localhost:%s", notify.Port, notify.Port),
		fmt.Sprintf("w: Quay (port %s) is at http://localhost:%s", once.Port, once.Port),
	}, said)
	assert.Equal(t, "http://localhost:"+once.Port, <-k.opened)
	number, _ := strconv.Atoi(silent.Port)
	eventually(t, number, "w localhost:"+silent.Port)
	number, _ = strconv.Atoi(ignore.Port)
	assert.Empty(t, asks(number))
	// It comes and goes: no browser is opened again, and little is said.
	number, _ = strconv.Atoi(once.Port)
	for range 5 {
		h.runs("w")
		eventually(t, number, "")
		h.runs("w", once)
		eventually(t, number, "w localhost:"+once.Port)
	}
	assert.Empty(t, k.opened)
	assert.Empty(t, k.said)
}

// A workspace whose programs listen at one port after the other neither floods the person with words
// nor with pages, and its word for a protocol is no scheme.
func TestAWorkspaceThatWantsAttention(t *testing.T) {
	h := newHarbour(t)
	var ports []client.Port
	for port := 23000; port < 23200; port++ {
		ports = append(ports, listens(port, func(p *client.Port) {
			p.OnAutoForward, p.Protocol = new(client.OpenBrowser), new("x-program")
		}))
	}
	h.runs("w", ports...)
	k := keep(t, h, filepath.Join(t.TempDir(), "ports.json"))
	eventually(t, 23199, "w localhost:23199")
	k.stop()
	assert.LessOrEqual(t, len(k.said), 30)
	assert.Len(t, k.opened, 5)
	for range 5 {
		assert.Regexp(t, `^http://localhost:23\d+$`, <-k.opened)
	}
}

// What is remembered is little: no port that has its own number, and nothing of who is gone.
func TestWhatIsRemembered(t *testing.T) {
	m, err := remember(filepath.Join(t.TempDir(), "ports.json"))
	require.NoError(t, err)
	w := Want{Workspace: "w", Target: "localhost:80", Port: 80}
	m.note(w, 80)
	assert.False(t, m.changed)
	m.note(w, 8080)
	m.opened(w)
	require.NoError(t, m.keep())
	m, err = remember(m.path)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{w.key(): 8080}, m.Ports)
	assert.True(t, m.Opened[w.key()])
	m.note(w, 80)
	assert.Empty(t, m.Ports)
	m.keepOnly(func(name string) bool { return name != "w" })
	assert.Empty(t, m.Opened)
	for i := range 2 * mostRemembered {
		m.note(Want{Workspace: "w", Target: fmt.Sprint("localhost:", i), Port: i}, i+1)
	}
	assert.LessOrEqual(t, len(m.Ports), mostRemembered)
}

// While the service is away, and while it does not know what listens, what is open stays open; after
// that it is as it is by then.
func TestAServiceThatIsAway(t *testing.T) {
	h := newHarbour(t)
	one, two := free(t), free(t)
	h.runs("w", listens(one))
	k := keep(t, h, filepath.Join(t.TempDir(), "ports.json"))
	eventually(t, one, fmt.Sprintf("w localhost:%d", one))
	h.set(func() { h.away = true; h.broken() })
	require.Eventually(t, func() bool { return !k.Status().Connected }, 10*time.Second, 5*time.Millisecond)
	assert.Equal(t, errAway.Error(), k.Status().Reason)
	eventually(t, one, fmt.Sprintf("w localhost:%d", one))
	h.set(func() { h.away, h.unknown, h.ports["w"] = false, true, nil })
	require.Eventually(t, func() bool { return k.Status().Connected }, 20*time.Second, 5*time.Millisecond)
	eventually(t, one, fmt.Sprintf("w localhost:%d", one))
	h.set(func() { h.unknown, h.ports["w"] = false, []client.Port{listens(two)} })
	eventually(t, one, "")
	eventually(t, two, fmt.Sprintf("w localhost:%d", two))
	h.set(func() { h.list["w"] = client.WorkspaceStateStopped })
	eventually(t, two, "")
	h.set(func() { delete(h.list, "w") })
	require.Eventually(t, func() bool { return len(k.Status().Places) == 0 }, 10*time.Second, 5*time.Millisecond)
}

// One workspace of which nothing can be learned keeps no other's ports from coming and going, and is
// not asked again and again without a pause.
func TestAWorkspaceOfWhichNothingIsLearned(t *testing.T) {
	h := newHarbour(t)
	one, two := free(t), free(t)
	h.silent = map[string]bool{"lost": true}
	h.slow = map[string]chan struct{}{"slow": make(chan struct{})}
	h.runs("lost", listens(two))
	h.runs("slow")
	h.runs("w", listens(one))
	k := keep(t, h, filepath.Join(t.TempDir(), "ports.json"))
	eventually(t, one, fmt.Sprintf("w localhost:%d", one))
	close(h.slow["slow"])
	require.Eventually(t, func() bool { return strings.Contains(k.Status().Reason, "ask for the ports of lost") }, 10*time.Second, 5*time.Millisecond)
	h.mu.Lock()
	before := h.asked
	h.mu.Unlock()
	h.set(func() { h.ports["w"] = nil })
	eventually(t, one, "")
	h.set(func() { h.silent = nil })
	eventually(t, two, fmt.Sprintf("lost localhost:%d", two))
	require.Eventually(t, func() bool { return k.Status().Connected }, 10*time.Second, 5*time.Millisecond)
	h.mu.Lock()
	defer h.mu.Unlock()
	assert.Less(t, h.asked-before, 20)
}

// A workspace can listen at any number of ports; this machine's are not its own.
func TestAWorkspaceWithTooManyPorts(t *testing.T) {
	h := newHarbour(t)
	var ports []client.Port
	for port := 20000; port < 22000; port++ {
		ports = append(ports, listens(port, func(p *client.Port) { p.OnAutoForward = new(client.Silent) }))
	}
	h.runs("w", ports...)
	k := keep(t, h, filepath.Join(t.TempDir(), "ports.json"))
	offered := func() (n int) {
		for _, place := range k.Status().Places {
			for _, p := range place.Ports {
				if p.Local != "" {
					n++
				}
			}
		}
		return n
	}
	require.Eventually(t, func() bool { return offered() == mostPorts }, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, "it has more ports than are offered here", k.Status().Places[0].Ports[1999].Reason)
}

func TestAddresses(t *testing.T) {
	for workspace, address := range map[string]string{"timetable": "timetable.domicile", "fares.mate": "mate.fares.domicile"} {
		assert.Equal(t, address, AddressOf(workspace, "domicile"))
		assert.Equal(t, workspace, WorkspaceAt(address, "domicile"))
	}
	assert.Equal(t, "timetable", WorkspaceAt("timetable", "domicile"))
	assert.Equal(t, "fares.mate", WorkspaceAt("fares.mate", "domicile"), "a workspace's own name will do")
	for address, as := range map[string]string{"fares+root.domicile": "fares+root", "mate.fares+root.domicile": "fares.mate+root", "fares+ann.lee.domicile": "fares+ann.lee", "fares.mate+root": "fares.mate+root"} {
		assert.Equal(t, as, WorkspaceAt(address, "domicile"), "with another user of the container")
	}
}
