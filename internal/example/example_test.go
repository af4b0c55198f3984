package example

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

// What the machine has is enough: its programs run where nothing else is.
func TestTheExampleIsAPlaceToWork(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "example")
	before := syscall.Umask(0o077) // as the service's unit has it
	err := Make(t.Context(), "/", folder)
	syscall.Umask(before)
	require.NoError(t, err)
	root := filepath.Join(folder, ".devcontainer", "machine")
	require.NoError(t, filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		assert.Zero(t, info.Mode()&(fs.ModeSetuid|fs.ModeSetgid), "%s has no special rights", name)
		assert.Equal(t, fs.FileMode(0o444), info.Mode()&0o444, "%s is everybody's", name)
		return err
	}))
	assert.NoFileExists(t, filepath.Join(root, "etc/shadow"))
	out, err := exec.CommandContext(t.Context(), "unshare", "--user", "--map-root-user", "--root", root, "/bin/bash", "-c", `export LC_ALL=C PATH=/usr/bin:/bin; ls /home && echo 'use IO::Socket::INET; print "tide\n"' > /tmp/tide && perl /tmp/tide && echo a b | awk '{print $2}' | sed s/b/ebb/ && sort /etc/group | head -n 1; id -u`).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "crew\ntide\nebb\ncrew:x:1000:\n0\n", string(out))
	out, err = exec.CommandContext(t.Context(), "perl", "-c", filepath.Join(folder, "board")).CombinedOutput()
	require.NoError(t, err, string(out))

	was, err := os.Stat(folder)
	require.NoError(t, err)
	require.NoError(t, Make(t.Context(), "/", folder))
	is, err := os.Stat(folder)
	require.NoError(t, err)
	assert.True(t, os.SameFile(was, is), "one that is there stays")
}

// Files that not everybody may read, and what lies in folders of settings, are not taken; and a machine
// that is no Debian is told.
func TestWhatIsNotTaken(t *testing.T) {
	root := t.TempDir()
	write := func(name, text string, mode os.FileMode) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), mode))
	}
	for _, name := range needed {
		write("var/lib/dpkg/info/"+name+".list", "/.\n/usr/bin/"+name+"\n/usr/bin/secret\n/etc/key\n/usr/bin/../../etc/key\n/usr/bin/link\n/usr/bin/gone\n", 0o644)
		write("usr/bin/"+name, name, 0o4755)
	}
	write("usr/bin/secret", "secret", 0o600)
	write("etc/key", "key", 0o644)
	require.NoError(t, os.Symlink("/etc/key", filepath.Join(root, "usr/bin/link")))
	folder := filepath.Join(t.TempDir(), "example")
	require.NoError(t, Make(t.Context(), root, folder))
	var names []string
	for _, from := range []string{"usr/bin", "etc"} {
		list, err := os.ReadDir(filepath.Join(folder, ".devcontainer", "machine", from))
		require.NoError(t, err)
		for _, file := range list {
			names = append(names, from+"/"+file.Name())
		}
	}
	assert.ElementsMatch(t, []string{"usr/bin/bash", "usr/bin/coreutils", "usr/bin/dash", "usr/bin/perl-base", "etc/passwd", "etc/group"}, names)

	none := filepath.Join(t.TempDir(), "example")
	assert.Equal(t, "no-example", fault.Code(Make(t.Context(), t.TempDir(), none)))
	assert.NoDirExists(t, none)
}
