package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// runsFine calls a program that must end well.
func runsFine(b *testing.B, stdin, program string, args ...string) {
	b.Helper()
	c := exec.CommandContext(b.Context(), program, args...)
	c.Stdin = strings.NewReader(stdin)
	out, err := c.CombinedOutput()
	require.NoError(b, err, string(out))
}

// apartFrom gives a client's options and its host.
func apartFrom(options []string) ([]string, string) {
	last := len(options) - 1
	return slices.Clone(options[:last]), options[last]
}

// BenchmarkUpload sends 256 MB with OpenSSH's sftp, against OpenSSH's own server in the same container.
func BenchmarkUpload(b *testing.B) {
	ours, raw := withServer(b, "bench-upload")
	cargo := filepath.Join(b.TempDir(), "cargo")
	f, err := os.Create(cargo)
	require.NoError(b, err)
	require.NoError(b, f.Truncate(streamed))
	require.NoError(b, f.Close())
	put := func(all []string) {
		options, host := apartFrom(all)
		runsFine(b, "put "+cargo+" /home/crew/up\n", "sftp", append(options, "-q", "-b", "-", host)...)
	}
	(&pair{}).measure(b, func() { put(ours) }, func() { put(raw) })
}

// BenchmarkManyFiles brings two thousand small files in and out with rsync, against OpenSSH's own server in
// the same container.
func BenchmarkManyFiles(b *testing.B) {
	ours, raw := withServer(b, "bench-files")
	from, to := b.TempDir(), b.TempDir()
	for i := range 2000 {
		folder := filepath.Join(from, fmt.Sprint(i%40))
		require.NoError(b, os.MkdirAll(folder, 0o755))
		require.NoError(b, os.WriteFile(filepath.Join(folder, fmt.Sprint(i)), []byte(strings.Repeat("tide ", 100+i%300)), 0o644))
	}
	both := func(all []string) {
		options, host := apartFrom(all)
		shell := "ssh " + strings.Join(options, " ")
		runsFine(b, "", "rsync", "-r", "--delete", "-e", shell, from+"/", host+":/home/crew/many")
		require.NoError(b, os.RemoveAll(to))
		runsFine(b, "", "rsync", "-r", "-e", shell, host+":/home/crew/many/", to)
		runsFine(b, "", "ssh", append(options, host, "rm -r /home/crew/many")...)
	}
	(&pair{}).measure(b, func() { both(ours) }, func() { both(raw) })
}

// BenchmarkConnect is a connection of OpenSSH's client that runs true and ends, against OpenSSH's own server
// in the same container.
func BenchmarkConnect(b *testing.B) {
	ours, raw := withServer(b, "bench-connect")
	come := func(options []string) { runsFine(b, "", "ssh", append(slices.Clone(options), "true")...) }
	(&pair{}).measure(b, func() { come(ours) }, func() { come(raw) })
}
