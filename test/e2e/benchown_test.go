package e2e

import (
	"log/slog"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"domicile/internal/postgres"
)

// BenchmarkOwnService is the start of a service that brings its own database, from the call to "ready",
// against PostgreSQL alone: of a new data folder, and of one that is there already.
func BenchmarkOwnService(b *testing.B) {
	b.Run("new", func(b *testing.B) {
		(&pair{}).measure(b, func() {
			o := newOwn(b)
			o.start(b)
			b.Cleanup(func() { o.end(b, syscall.SIGTERM) })
		}, func() {
			s := bare(b, folderForBare(b))
			b.Cleanup(func() { _ = s.Close() })
		})
	})
	b.Run("existing", func(b *testing.B) {
		o, folder := newOwn(b), folderForBare(b)
		o.start(b)
		bareNow := bare(b, folder)
		(&pair{before: func() {
			if o.running != nil {
				o.end(b, syscall.SIGTERM)
				o.running = nil
			}
			if bareNow != nil {
				require.NoError(b, bareNow.Close())
				bareNow = nil
			}
		}}).measure(b, func() { o.start(b) }, func() { bareNow = bare(b, folder) })
	})
}

func folderForBare(b *testing.B) string {
	b.Helper()
	folder, err := os.MkdirTemp("", "domicile-bare-")
	require.NoError(b, err)
	b.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(b, os.Chmod(folder, 0o711))
	return filepath.Join(folder, "database")
}

func bare(b *testing.B, folder string) *postgres.Server {
	b.Helper()
	s, err := postgres.Open(b.Context(), folder, slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	return s
}
