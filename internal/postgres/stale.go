package postgres

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// forgetDead corrects the files by which PostgreSQL knows that a server is at work, where that server was
// killed and nobody has seen to its end: the first process of a container often does not. PostgreSQL
// takes such a process for one that lives, and would never start again. What else it checks, that no
// process of the dead server's uses the data, it goes on checking: the file stays, with the number of the
// process that starts the new one, which PostgreSQL knows to be no server.
func (s *Server) forgetDead() error {
	for _, file := range []string{filepath.Join(s.data(), "postmaster.pid"), filepath.Join(s.sockets(), socketName+".lock")} {
		b, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("look for a server that was killed: %w", err)
		}
		if len(b) == 0 { // it was killed in the moment between making the file and writing it
			if info, err := os.Stat(file); err == nil && time.Since(info.ModTime()) > writeLimit {
				_ = os.Remove(file)
			}
			continue
		}
		first, rest, _ := bytes.Cut(b, []byte("\n"))
		id, err := strconv.Atoi(strings.TrimSpace(string(first)))
		if err != nil || !isDead(id) {
			continue
		}
		if err := s.replace(file, fmt.Appendf(nil, "%d\n%s", os.Getpid(), rest)); err != nil {
			return fmt.Errorf("forget a server that was killed: %w", err)
		}
	}
	return nil
}

// writeLimit is how long a server may take to write a file that it has made.
const writeLimit = time.Second

// replace writes a file of the server's, whole or not at all.
func (s *Server) replace(file string, b []byte) error {
	next, err := os.CreateTemp(filepath.Dir(file), "next-") // never one that is there: it could be a link
	if err != nil {
		return err
	}
	defer os.Remove(next.Name()) // where it was not moved
	_, err = next.Write(b)
	if c := s.owner.Credential; err == nil && c != nil {
		err = next.Chown(int(c.Uid), int(c.Gid))
	}
	if err := errors.Join(err, next.Close()); err != nil {
		return err
	}
	return os.Rename(next.Name(), file)
}

// isDead tells that a process has ended, and is still in the table of processes (proc_pid_stat(5)).
func isDead(id int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", id))
	if err != nil {
		return false
	}
	_, after, _ := bytes.Cut(b[max(0, bytes.LastIndexByte(b, ')')):], []byte(") "))
	return bytes.HasPrefix(after, []byte("Z"))
}
