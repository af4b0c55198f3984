package engine

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"

	"domicile/internal/fault"
)

// An engine can map root of its containers to a user of the host who has no rights
// (userns-remap): user 0 inside is user base on the host, and so on. Then what the host
// shares with a container must be given to the mapped users, and archives that come out of
// containers name the host's numbers.

// mappedRoot finds the mapped numbers in the name of the folder that such an engine keeps
// its data in.
var mappedRoot = regexp.MustCompile(`/(\d+)\.(\d+)$`)

// mappedUsers is how many users are mapped.
const mappedUsers = 1 << 16

// mappedBase is the host's number of the containers' root; 0 where it is root itself.
func mappedBase(root string) int {
	if m := mappedRoot.FindStringSubmatch(root); m != nil {
		n, _ := strconv.Atoi(m[1]) // digits only
		return n
	}
	return 0
}

func (s *Site) base() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.host.base
}

// giveFolder makes a folder that a container's root may write to.
func (s *Site) giveFolder(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	if base := s.base(); base > 0 {
		return os.Lchown(folder, base, base)
	}
	return nil
}

// inside gives an archive that came out of a container the numbers that its users have
// inside.
func (s *Site) inside(archive io.ReadCloser) io.ReadCloser {
	base := s.base()
	if base == 0 {
		return archive
	}
	return renumbered(archive, func(h *tar.Header) {
		for _, id := range []*int{&h.Uid, &h.Gid} {
			if *id >= base && *id < base+mappedUsers {
				*id -= base
			}
		}
	})
}

// renumbered is an archive with other owners.
func renumbered(archive io.ReadCloser, own func(*tar.Header)) io.ReadCloser {
	r, w := io.Pipe()
	go func() { w.CloseWithError(renumber(archive, own, w)) }()
	return struct {
		io.Reader
		io.Closer
	}{r, closers{r, archive}}
}

type closers []io.Closer

// Close closes all of them.
func (c closers) Close() error {
	for _, x := range c {
		_ = x.Close()
	}
	return nil
}

func renumber(archive io.Reader, own func(*tar.Header), to io.Writer) error {
	out := tar.NewWriter(to)
	for in := tar.NewReader(archive); ; {
		h, err := in.Next()
		if err == io.EOF {
			return out.Close()
		}
		if err != nil {
			return err
		}
		own(h)
		if err := out.WriteHeader(h); err != nil {
			return err
		}
		if _, err := io.Copy(out, in); err != nil {
			return err
		}
	}
}

// mountedFolder gives the folder of the host that is mounted into a workspace's containers.
// Where users are mapped it is another view of the folder, in which the host's users are the
// same ones inside: a mount with mapped numbers (mount_setattr(2)).
func (s *Site) mountedFolder(workspace, folder string) (string, error) {
	base := s.base()
	if base == 0 {
		return folder, nil
	}
	at := filepath.Join(s.o.Shared.Views, workspace)
	if s.o.Shared.Views == "" {
		return "", fault.New("not-this-host", "use a git address", "the engine maps its users, and no folder is kept for views of the host's folders")
	}
	if err := os.MkdirAll(at, 0o700); err != nil {
		return "", fmt.Errorf("make a folder for the view of %s: %w", folder, err)
	}
	if err := s.dropView(workspace); err != nil { // an earlier one may be of another folder
		return "", err
	}
	users, done, err := mappedSpace(base)
	if err != nil {
		return "", fmt.Errorf("map the users of %s: %w", folder, err)
	}
	defer done()
	if err := view(folder, at, users); err != nil {
		return "", fault.Wrap(err, "no-view", "use a git address, or an engine that does not map its users", "the folder %s cannot be shown to mapped users", folder)
	}
	return at, nil
}

// ensureView makes the view of a container's folder again that is gone, as after a restart of
// the host.
func (s *Site) ensureView(ctx context.Context, workspace, name string) error {
	if s.base() == 0 || s.o.Shared.Views == "" {
		return nil
	}
	at := filepath.Join(s.o.Shared.Views, workspace)
	var here, above unix.Stat_t
	if unix.Lstat(at, &here) != nil || unix.Lstat(s.o.Shared.Views, &above) != nil || here.Dev != above.Dev {
		return nil // it has none, or it is there
	}
	there, err := s.api.ContainerInspect(ctx, name)
	if err != nil || there.Config.Labels[labelFolder] == "" {
		return nil // what is wrong is told at its start
	}
	_, err = s.mountedFolder(workspace, there.Config.Labels[labelFolder])
	return err
}

// dropView takes a workspace's view of a folder away, if it has one.
func (s *Site) dropView(workspace string) error {
	if s.o.Shared.Views == "" {
		return nil
	}
	err := unix.Unmount(filepath.Join(s.o.Shared.Views, workspace), unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW)
	if err == unix.EINVAL || err == unix.ENOENT { // there is none
		return nil
	}
	if err != nil {
		return fmt.Errorf("take the view of a folder away: %w", err)
	}
	return nil
}

// view mounts a folder at another place with mapped users.
func view(folder, at string, users *os.File) error {
	tree, err := unix.OpenTree(unix.AT_FDCWD, folder, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC|unix.AT_SYMLINK_NOFOLLOW)
	if err != nil {
		return fmt.Errorf("open it: %w", err)
	}
	defer unix.Close(tree)
	if err := unix.MountSetattr(tree, "", unix.AT_EMPTY_PATH, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_IDMAP | unix.MOUNT_ATTR_NODEV, Userns_fd: uint64(users.Fd())}); err != nil {
		return fmt.Errorf("map its users: %w", err)
	}
	if err := unix.MoveMount(tree, "", unix.AT_FDCWD, at, unix.MOVE_MOUNT_F_EMPTY_PATH); err != nil {
		return fmt.Errorf("mount it: %w", err)
	}
	return nil
}

// mappedSpace makes a user namespace with the engine's mapping. A process holds it until
// it is used.
func mappedSpace(base int) (*os.File, func(), error) {
	c := exec.CommandContext(context.Background(), "/bin/cat")
	m := []syscall.SysProcIDMap{{ContainerID: 0, HostID: base, Size: mappedUsers}}
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER, UidMappings: m, GidMappings: m, Pdeathsig: syscall.SIGKILL}
	held, err := c.StdinPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := c.Start(); err != nil {
		return nil, nil, err
	}
	end := func() {
		held.Close()
		_ = c.Wait()
	}
	users, err := os.Open(fmt.Sprintf("/proc/%d/ns/user", c.Process.Pid))
	if err != nil {
		end()
		return nil, nil, err
	}
	return users, func() { users.Close(); end() }, nil
}
