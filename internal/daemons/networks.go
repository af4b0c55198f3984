package daemons

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	bolt "go.etcd.io/bbolt"
)

// networksAt is where an engine keeps its networks below its folder: the second * is the users that
// its containers' are mapped to.
const networksAt = "data/*/network/files/local-kv.db"

// forgetReleased takes networks out of an engine's records that it had given the addresses back of,
// and not removed yet, when it ended: it looks for those addresses when it starts, panics for there
// are none, and so never starts again. What else it was removing it removes by itself.
func (e *Engine) forgetReleased() error {
	files, err := fs.Glob(os.DirFS(e.folder), networksAt) // whatever the folder itself is called
	if err != nil {
		return err
	}
	for _, file := range files {
		file = filepath.Join(e.folder, file)
		db, err := bolt.Open(file, 0o600, &bolt.Options{Timeout: time.Second})
		if err != nil {
			return fmt.Errorf("open %s: %w", file, err)
		}
		err = db.Update(forgetReleased)
		if closed := db.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return fmt.Errorf("change %s: %w", file, err)
		}
	}
	return nil
}

func forgetReleased(tx *bolt.Tx) error {
	bucket := tx.Bucket([]byte("libnetwork"))
	if bucket == nil {
		return nil
	}
	var released [][]byte
	prefix := []byte("docker/network/v1.0/network/")
	c := bucket.Cursor()
	for key, value := c.Seek(prefix); bytes.HasPrefix(key, prefix); key, value = c.Next() {
		if isReleased(value) {
			released = append(released, bytes.Clone(key))
		}
	}
	for _, key := range released {
		if err := bucket.Delete(key); err != nil {
			return err
		}
	}
	return nil
}

// countLength is what an engine writes before a record: how often it was changed, in 8 bytes.
const countLength = 8

// isReleased tells whether a network's record is of one that is being removed and has no addresses
// any more. A record that cannot be read is the engine's affair.
func isReleased(record []byte) bool {
	var n struct {
		InDelete   bool   `json:"inDelete"`
		ConfigOnly bool   `json:"configOnly"` // never has addresses
		Addresses  string `json:"ipamV4Info"`
	}
	return len(record) > countLength && json.Unmarshal(record[countLength:], &n) == nil && n.InDelete && !n.ConfigOnly && n.Addresses == ""
}
