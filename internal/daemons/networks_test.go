package daemons

import (
	"encoding/json"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	bolt "go.etcd.io/bbolt"
)

// An engine that ended between two steps of removing a network starts again: it finds in its records
// what it left there, and panics by itself.
func TestAnEngineThatEndedWhileItRemovedANetwork(t *testing.T) {
	folder, err := os.MkdirTemp("", "domicile-slipway[1]-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o711), "the engine's mapped users pass through it")
	t.Cleanup(func() { os.RemoveAll(folder) })
	e, err := StartEngine(t.Context(), folder)
	require.NoError(t, err)
	t.Cleanup(e.Close)
	docker := func(args ...string) string {
		out, err := exec.CommandContext(t.Context(), "docker", append([]string{"-H", e.Host}, args...)...).CombinedOutput()
		assert.NoError(t, err, "%s", out)
		return string(out)
	}
	docker("network", "create", "half-gone")
	docker("network", "create", "moored")
	var list []struct{ ID string }
	require.NoError(t, ask(t.Context(), e.Host, "GET", "/networks?filters="+url.QueryEscape(`{"name":["half-gone"]}`), &list))
	require.Len(t, list, 1)
	e.Stop()

	files, err := fs.Glob(os.DirFS(e.folder), networksAt)
	require.NoError(t, err)
	require.Len(t, files, 1)
	db, err := bolt.Open(filepath.Join(e.folder, files[0]), 0o600, nil)
	require.NoError(t, err)
	require.NoError(t, db.Update(func(tx *bolt.Tx) error {
		bucket, key := tx.Bucket([]byte("libnetwork")), []byte("docker/network/v1.0/network/"+list[0].ID+"/")
		old, record := bucket.Get(key), map[string]any{}
		require.NoError(t, json.Unmarshal(old[countLength:], &record))
		record["inDelete"] = true
		delete(record, "ipamV4Info")
		b, err := json.Marshal(record)
		require.NoError(t, err)
		return bucket.Put(key, append(append([]byte{}, old[:countLength]...), b...))
	}))
	require.NoError(t, db.Close())

	require.NoError(t, e.Start(t.Context()))
	names := docker("network", "ls", "--format", "{{.Name}}")
	assert.NotContains(t, names, "half-gone")
	assert.Contains(t, names, "moored")
	docker("network", "create", "half-gone")
}
