package listening

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Process is who holds a socket.
type Process struct {
	PID int
	// Name is the program's, at most 15 bytes long (comm of proc(5)).
	Name string
	// Command is the command line, its arguments apart by spaces.
	Command string
}

// longestCommand is how much of a command line is told, in bytes.
const longestCommand = 300

// Holders finds, among the processes whose open files the caller may see, the holders of sockets
// by their inodes. Of several the one with the lowest number counts, which is as a rule who has
// made the socket. A folder such as /proc is looked through.
func Holders(proc string, inodes map[uint32]bool) map[uint32]Process {
	found := map[uint32]Process{}
	entries, err := os.ReadDir(proc)
	if err != nil {
		return found
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		files, err := os.ReadDir(filepath.Join(proc, e.Name(), "fd"))
		if err != nil {
			continue // it has ended, or is somebody else's
		}
		for _, f := range files {
			inode, isSocket := socketOf(filepath.Join(proc, e.Name(), "fd", f.Name()))
			if !isSocket || !inodes[inode] {
				continue
			}
			if before, known := found[inode]; !known || pid < before.PID {
				found[inode] = describe(proc, pid)
			}
		}
	}
	return found
}

// socketOf reads which socket an open file is: "socket:[4711]".
func socketOf(file string) (uint32, bool) {
	target, err := os.Readlink(file)
	if err != nil {
		return 0, false
	}
	number, isSocket := strings.CutPrefix(target, "socket:[")
	inode, err := strconv.ParseUint(strings.TrimSuffix(number, "]"), 10, 32)
	return uint32(inode), isSocket && err == nil
}

func describe(proc string, pid int) Process {
	p := Process{PID: pid}
	folder := filepath.Join(proc, strconv.Itoa(pid))
	if b, err := os.ReadFile(filepath.Join(folder, "comm")); err == nil {
		p.Name = strings.TrimSpace(string(b))
	}
	if b, err := os.ReadFile(filepath.Join(folder, "cmdline")); err == nil {
		p.Command = strings.TrimSpace(strings.ReplaceAll(string(b[:min(len(b), longestCommand)]), "\x00", " "))
	}
	return p
}
