package vm

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// what machines begin with, made once.
var imageFolder string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		folder, err := os.MkdirTemp("", "dmcl-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(folder)
		imageFolder = filepath.Join(folder, "image")
		c := exec.Command("../../../../scripts/machine-image", imageFolder)
		c.Stdout, c.Stderr = os.Stdout, os.Stderr
		if err := c.Run(); err != nil {
			fmt.Fprintln(os.Stderr, "make what machines begin with:", err)
			return 1
		}
		return m.Run()
	}())
}

func newMaker(t testing.TB, o Options) *Maker {
	t.Helper()
	folder, err := os.MkdirTemp("", "dmcl-")
	require.NoError(t, err)
	o.Folder, o.Image = filepath.Join(folder, "m"), imageFolder // which is closed to others, as the service's is
	if o.Say == nil {
		o.Say = t.Logf
	}
	m, err := New(o)
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx := context.WithoutCancel(t.Context())
		list, err := m.List(ctx)
		assert.NoError(t, err)
		for _, v := range list {
			assert.NoError(t, m.Remove(ctx, v.ID))
		}
		m.Close()
		m.processes.Wait() // none is left
		assert.NoError(t, os.RemoveAll(folder))
	})
	return m
}

var small = machine.Shape{Processors: 1, Memory: 768 << 20, Disk: 8 << 30}

// api asks a machine's engine.
func api(t *testing.T, m *Maker, id, path string) string {
	t.Helper()
	c := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return m.Dial(ctx, id, channel.ToEngine) }, DisableKeepAlives: true}}
	answer, err := c.Get("http://engine" + path)
	require.NoError(t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(b)
}

func TestMachines(t *testing.T) {
	ctx := t.Context()
	m := newMaker(t, Options{})
	began := time.Now()
	step := func(what string) {
		t.Logf("%6.2f s %s", time.Since(began).Seconds(), what)
		began = time.Now()
	}
	require.NoError(t, m.Ensure(ctx, "w1", small, nil))
	step("a template and a machine")
	how, err := m.Start(ctx, "w1")
	require.NoError(t, err)
	step("started")
	assert.Equal(t, Cloned, how)
	assert.Contains(t, api(t, m, "w1", "/version"), "ApiVersion")
	require.NoError(t, m.Ensure(ctx, "w2", small, nil))
	how, err = m.Start(ctx, "w2")
	require.NoError(t, err)
	assert.Equal(t, Cloned, how)
	step("another")
	m.lines["w2"].Close() // whatever ended it
	assert.Contains(t, api(t, m, "w2", "/version"), "ApiVersion", "another session begins")
	big := make([]byte, 64<<20)
	stream, err := m.Dial(ctx, "w2", channel.ToEngine)
	require.NoError(t, err)
	_, err = fmt.Fprintf(stream, "POST /images/load HTTP/1.0\r\nContent-Length: %d\r\n\r\n", len(big))
	require.NoError(t, err)
	_, err = stream.Write(big)
	require.NoError(t, err)
	stream.Close()
	step("64 MB written into it")
	require.NoError(t, m.Suspend(ctx, "w1"))
	step("asleep")
	v, found, err := m.Find(ctx, "w1")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, machine.Asleep, v.State)
	_, err = m.Dial(ctx, "w1", channel.ToEngine)
	assert.Equal(t, "machine-off", fault.Code(err))
	how, err = m.Start(ctx, "w1")
	require.NoError(t, err)
	assert.Equal(t, Resumed, how)
	step("goes on")
	assert.Contains(t, api(t, m, "w1", "/version"), "ApiVersion")

	sharesMachines(t, m)
}

// sharesMachines has another service of this host use the machines of a maker: what one of them
// has begun a session with the other uses, too, and takes over when it ends.
func sharesMachines(t *testing.T, m *Maker) {
	t.Helper()
	ctx := t.Context()
	other, err := New(Options{Folder: m.o.Folder, Image: m.o.Image, Say: t.Logf})
	require.NoError(t, err)
	defer other.Close()
	assert.Contains(t, api(t, other, "w2", "/version"), "ApiVersion", "the session is lent")
	assert.Contains(t, api(t, m, "w2", "/version"), "ApiVersion")
	m.Close()
	require.Eventually(t, func() bool { _, err := other.Dial(ctx, "w2", channel.ToEngine); return err == nil }, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, api(t, other, "w2", "/version"), "ApiVersion", "the other one takes the ports")
	assert.Contains(t, api(t, m, "w2", "/version"), "ApiVersion", "and lends")
	require.NoError(t, m.Suspend(ctx, "w2"))
	how, err := m.Start(ctx, "w2")
	require.NoError(t, err)
	assert.Equal(t, Resumed, how, "whoever has the ports")
	assert.Contains(t, api(t, other, "w2", "/version"), "ApiVersion")

	// Both want one machine at one moment: it is made once.
	var both errgroup.Group
	hows := make(chan string, 2)
	for _, one := range []*Maker{m, other} {
		both.Go(func() error {
			if err := one.Ensure(ctx, "w3", small, nil); err != nil {
				return err
			}
			how, err := one.Start(ctx, "w3")
			hows <- how
			return err
		})
	}
	require.NoError(t, both.Wait())
	assert.ElementsMatch(t, []string{Cloned, Ran}, []string{<-hows, <-hows})
}

// A machine that is to become a template and is killed meanwhile is told, and costs time and no more.
func TestATemplateThatIsKilled(t *testing.T) {
	var said []string
	m := newMaker(t, Options{Say: func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }})
	ensured := make(chan error, 1)
	go func() { ensured <- m.Ensure(t.Context(), "w1", small, nil) }()
	require.Eventually(t, func() bool {
		list, _ := filepath.Glob(m.in("templates", "t*"))
		if len(list) != 1 || !process.Runs(list[0]) {
			return false
		}
		require.NoError(t, process.End(t.Context(), list[0]))
		return true
	}, time.Minute, 20*time.Millisecond)
	require.NoError(t, <-ensured)
	assert.Contains(t, strings.Join(said, "\n"), "a template of machines could not be made; this one boots")
	left, err := filepath.Glob(m.in("templates", "t*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing of it is left")
	how, err := m.Start(t.Context(), "w1")
	require.NoError(t, err)
	assert.Equal(t, Booted, how)
	require.NoError(t, m.Ensure(t.Context(), "w2", small, nil))
	how, err = m.Start(t.Context(), "w2")
	require.NoError(t, err)
	assert.Equal(t, Cloned, how, "the next one is made, and serves")
}
