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
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/site/machine"
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
}
