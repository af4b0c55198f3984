package agent

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// account is a user of the instance, read from its own files.
type account struct {
	name, home, shell string
	uid, gid          int
	groups            []uint32
}

// lookupAccount finds a user by "name", "uid", "name:group" or "uid:gid", as a container's
// user may be written. A number that the files do not name is an account of its own.
func lookupAccount(user string) (*account, error) {
	if user == "" {
		user = strconv.Itoa(os.Getuid())
	}
	name, group, _ := strings.Cut(user, ":")
	a, err := passwd(name)
	if err != nil {
		return nil, err
	}
	if group != "" {
		if a.gid, err = groupID(group); err != nil {
			return nil, err
		}
	}
	a.groups, err = groupsOf(a)
	return a, err
}

func passwd(user string) (*account, error) {
	number, numberErr := strconv.Atoi(user)
	var found *account
	err := eachLine("/etc/passwd", func(fields []string) {
		if found != nil || len(fields) < 7 {
			return
		}
		uid, errUID := strconv.Atoi(fields[2])
		gid, errGID := strconv.Atoi(fields[3])
		if errUID == nil && errGID == nil && (fields[0] == user || (numberErr == nil && uid == number)) {
			found = &account{name: fields[0], uid: uid, gid: gid, home: fields[5], shell: fields[6]}
		}
	})
	switch {
	case found == nil && numberErr == nil:
		found = &account{name: user, uid: number, gid: 0, home: "/"}
	case found == nil && err != nil && user == "root":
		found = &account{name: "root", home: "/root"}
	case found == nil:
		return nil, fmt.Errorf("the image has no user %q", user)
	}
	if found.shell == "" || !executable(found.shell) {
		found.shell = "/bin/sh"
	}
	return found, nil
}

func executable(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0
}

func groupID(group string) (int, error) {
	if n, err := strconv.Atoi(group); err == nil {
		return n, nil
	}
	id := -1
	_ = eachLine("/etc/group", func(fields []string) {
		if len(fields) > 2 && fields[0] == group {
			if n, err := strconv.Atoi(fields[2]); err == nil {
				id = n
			}
		}
	})
	if id < 0 {
		return 0, fmt.Errorf("the image has no group %q", group)
	}
	return id, nil
}

func groupsOf(a *account) ([]uint32, error) {
	groups := []uint32{uint32(a.gid)}
	err := eachLine("/etc/group", func(fields []string) {
		if len(fields) < 4 || !slices.Contains(strings.Split(fields[3], ","), a.name) {
			return
		}
		if n, err := strconv.ParseUint(fields[2], 10, 32); err == nil && !slices.Contains(groups, uint32(n)) {
			groups = append(groups, uint32(n))
		}
	})
	if os.IsNotExist(err) {
		err = nil
	}
	return groups, err
}

func eachLine(path string, f func(fields []string)) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	scanner := bufio.NewScanner(io.LimitReader(file, 4<<20))
	for scanner.Scan() {
		f(strings.Split(scanner.Text(), ":"))
	}
	return scanner.Err()
}

// credential is nil where the agent has that user's rights already and could not take others.
func (a *account) credential() *syscall.Credential {
	if os.Getuid() != 0 {
		return nil
	}
	return &syscall.Credential{Uid: uint32(a.uid), Gid: uint32(a.gid), Groups: a.groups}
}
