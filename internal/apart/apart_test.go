//go:build !cgo

// The process is a program without anything of the system's: it must be static.

package apart

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"domicile/internal/apart/leaving"
	"domicile/internal/compose"
	"domicile/internal/definition"
)

// look tells what is left to a process that was kept apart.
func look() int {
	var names []string
	entries, _ := os.ReadDir("/")
	for _, e := range entries {
		names = append(names, e.Name())
	}
	yes := map[bool]string{true: "yes", false: "no"}
	_, etcErr := os.ReadFile("/etc/passwd")
	writeErr := os.WriteFile("/tmp/x", []byte("x"), 0o600)
	_, dialErr := net.Dial("tcp", "127.0.0.1:22")
	_, procErr := os.ReadDir("/proc")
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var have [2]unix.CapUserData
	_ = unix.Capget(&header, &have[0])
	fmt.Printf("root: %s; etc: %s; write: %s; loopback: %s; uid map: %d; rights: %08x%08x; proc: %s.", strings.Join(names, " "), yes[etcErr == nil], yes[writeErr == nil], yes[dialErr == nil], os.Getuid(), have[1].Effective|have[1].Permitted, have[0].Effective|have[0].Permitted, yes[procErr == nil])
	return 0
}

func TestMain(m *testing.M) {
	switch os.Args[0] {
	case Left:
		os.Exit(Main())
	case "look":
		fmt.Println(leaving.Leave("left"))
		os.Exit(1)
	case "left":
		os.Exit(look())
	}
	os.Exit(m.Run())
}

// program is the reader that was built, where there is one.
func program() string {
	folder := os.Getenv("DOMICILE_PROGRAMS")
	if folder == "" {
		folder = "../../bin"
	}
	if built, err := filepath.Abs(filepath.Join(folder, "domicile-reader")); err == nil {
		if _, err := os.Stat(built); err == nil {
			return built
		}
	}
	return Self
}

func repository(texts map[string]string) fstest.MapFS {
	files := fstest.MapFS{}
	for name, text := range texts {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return files
}

func TestReadingElsewhere(t *testing.T) {
	r, err := Start(program())
	require.NoError(t, err)
	defer r.Close()
	files := repository(map[string]string{"compose.yaml": "services:\n  board:\n    extends: { file: parts/db.yaml, service: store }\n    environment: [A=b]\n", "parts/db.yaml": "services:\n  store:\n    image: postgres:15\n    env_file: db.env\n", "parts/db.env": "PGDATA=/data\n"})
	for range 5 { // each has a process of its own
		out, err := r.Compose(t.Context(), "", files, []string{"compose.yaml"})
		require.NoError(t, err)
		require.Empty(t, out.Problems)
		require.Len(t, out.Services, 1)
		assert.Equal(t, "postgres:15", out.Services[0].Image)
		assert.Equal(t, map[string]string{"A": "b", "PGDATA": "/data"}, out.Services[0].Env)
		assert.Equal(t, compose.Place{File: "compose.yaml", Line: 2}, out.Places[0])
	}
	out, err := r.Compose(t.Context(), "", files, []string{"none.yaml"})
	require.NoError(t, err)
	assert.Equal(t, "no-compose-file", out.Problems[0].Code)
}

// One text that eats memory ends its own process, and the next reading goes well.
func TestATextThatEatsMemory(t *testing.T) {
	r, err := Start(program())
	require.NoError(t, err)
	defer r.Close()
	bomb := "a: &a [" + strings.Repeat("x,", 1000) + "]\n" + "b: &b [" + strings.Repeat("*a,", 1000) + "]\nc: [" + strings.Repeat("*b,", 1000) + "]\nservices: { w: { image: x } }\n"
	out, err := r.Compose(t.Context(), "", repository(map[string]string{"c.yaml": bomb}), []string{"c.yaml"})
	require.NoError(t, err)
	require.NotEmpty(t, out.Problems)
	out, err = r.Compose(t.Context(), "", repository(map[string]string{"c.yaml": "services: { w: { image: x } }"}), []string{"c.yaml"})
	require.NoError(t, err)
	assert.Empty(t, out.Problems)
}

// BenchmarkRead measures one reading, against the same one in this process: with a process
// that waits for it, and where one must be started first.
func BenchmarkRead(b *testing.B) {
	files := repository(map[string]string{".devcontainer/devcontainer.json": `{"image": "base:12", "forwardPorts": [3000], "postCreateCommand": "make"}`, "c.yaml": "services: { w: { image: x }, db: { image: postgres:15 } }"})
	b.Run("definition", func(b *testing.B) {
		o := definition.Options{Folder: "/w", Compose: compose.Reader{}}
		compare(b, func() error { definition.Read(b.Context(), files, o); return nil }, func(r *Readers) error { _, err := r.Definition(b.Context(), "", files, o); return err })
	})
	b.Run("compose", func(b *testing.B) {
		paths := []string{"c.yaml"}
		compare(b, func() error { compose.Read(b.Context(), files, paths, nil); return nil }, func(r *Readers) error { _, err := r.Compose(b.Context(), "", files, paths); return err })
	})
}

func compare(b *testing.B, here func() error, there func(r *Readers) error) {
	warmed, err := Start(program())
	require.NoError(b, err)
	defer warmed.Close()
	warmed.patience = 0
	none := &Readers{program: program(), ended: true, texts: map[string]*held{}} // it keeps none ready
	took := func(read func() error) float64 {
		start := time.Now()
		require.NoError(b, read())
		return float64(time.Since(start).Microseconds()) / 1000
	}
	var raw, warm, cold []float64
	for b.Loop() {
		require.Eventually(b, func() bool { return warmed.waiting() == kept }, 10*time.Second, time.Millisecond)
		raw = append(raw, took(here))
		warm = append(warm, took(func() error { return there(warmed) }))
		require.Eventually(b, func() bool { return warmed.waiting() == kept }, 10*time.Second, time.Millisecond)
		cold = append(cold, took(func() error { return there(none) }))
	}
	for _, of := range [][]float64{raw, warm, cold} {
		slices.Sort(of)
	}
	middle := len(raw) / 2
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(raw[middle], "raw-ms")
	b.ReportMetric(warm[middle], "warm-ms")
	b.ReportMetric(cold[middle], "cold-ms")
	b.ReportMetric(warm[middle]/raw[middle], "warm-ratio")
}

// waiting is how many processes wait for work.
func (r *Readers) waiting() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.spare)
}

// What a process has that was left behind: seen from inside.
func TestNothingIsThere(t *testing.T) {
	p, err := beginAs(Self, "look")
	require.NoError(t, err)
	defer p.end()
	said, err := p.out.ReadString('.')
	require.NoError(t, err)
	assert.Equal(t, "root: tmp; etc: no; write: yes; loopback: no; uid map: 0; rights: 0000000000000000; proc: no.", said)
}

// Readings of one text share a process, those of two do not, and one that has ended between
// two readings is replaced.
func TestOneTextOneProcess(t *testing.T) {
	r, err := Start(program())
	require.NoError(t, err)
	defer r.Close()
	read := func(of string) {
		out, err := r.Compose(t.Context(), of, repository(map[string]string{"c.yaml": "services: { " + of + ": { image: x } }"}), []string{"c.yaml"})
		if assert.NoError(t, err) && assert.Len(t, out.Services, 1) {
			assert.Equal(t, of, out.Services[0].Name)
		}
	}
	process := func(of string) int {
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.texts[of].p.cmd.Process.Pid
	}
	var all sync.WaitGroup
	for range 10 {
		all.Go(func() { read("fares") })
		all.Go(func() { read("timetable") })
	}
	all.Wait()
	first, other := process("fares"), process("timetable")
	assert.NotEqual(t, first, other)
	assert.Equal(t, 10, r.texts["fares"].readings)
	require.NoError(t, r.texts["fares"].p.cmd.Process.Kill())
	read("fares")
	assert.NotEqual(t, first, process("fares"))
	for i := range 3 * mostHeld {
		read(fmt.Sprintf("x%d", i))
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	assert.LessOrEqual(t, len(r.texts), mostHeld, "few wait for another reading")
}
