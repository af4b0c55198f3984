package usher

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

const hostKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIO5q6Wd3VhTmSZ1tzqk3mXr9q3d1oYqDfZ5y0zZk1u2b"

func settings(t *testing.T) Settings {
	t.Helper()
	folder := t.TempDir()
	return Settings{File: filepath.Join(folder, ".ssh", "config"), Folder: filepath.Join(folder, "the usher"), Suffix: "domicile",
		Pipe: []string{"/opt/a folder/domicile", "pipe", "-login", "/home/100%/login"}, HostKey: hostKey}
}

// have writes the person's own file.
func (s Settings) have(t *testing.T, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(s.File), 0o700))
	require.NoError(t, os.WriteFile(s.File, []byte(text), 0o644))
}

func contents(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(b)
}

// Whatever the person's file holds, it holds that and the line, and afterwards that alone; and ssh
// understands it.
func TestThePersonsFileStaysAsItWas(t *testing.T) {
	for name, text := range map[string]string{
		"nothing":              "",
		"a host":               "Host quay\n  Port 2222\n",
		"no line end":          "Host quay\n  Port 2222",
		"line ends of Windows": "Host quay\r\n  Port 2222\r\n",
		"a Match at its end":   "Match all\n  ForwardAgent yes\n",
		"the wildcard itself":  "Host *\n  ProxyCommand nowhere\n  User somebody\n",
		"much":                 strings.Repeat("# the tide turns\n", 200_000),
	} {
		t.Run(name, func(t *testing.T) {
			s := settings(t)
			s.have(t, text)
			require.NoError(t, s.Write())
			for range 2 {
				require.NoError(t, s.Include())
				assert.Equal(t, s.lines()+text, contents(t, s.File))
			}
			included, err := s.Included()
			require.NoError(t, err)
			assert.True(t, included)
			out, err := exec.CommandContext(t.Context(), "ssh", "-F", s.File, "-G", "timetable.domicile").CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Contains(t, string(out), "\nproxycommand '/opt/a folder/domicile' pipe -login /home/100%%/login %n\n")
			assert.Contains(t, string(out), "\nuserknownhostsfile "+s.knownHosts()+"\n")
			assert.Contains(t, string(out), "\nuser domicile\n")
			out, err = exec.CommandContext(t.Context(), "ssh-keygen", "-F", "timetable.domicile", "-f", s.knownHosts()).CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Contains(t, string(out), hostKey)

			require.NoError(t, s.Remove())
			assert.Equal(t, text, contents(t, s.File))
			info, err := os.Stat(s.File)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o644), info.Mode().Perm())
			assert.NoFileExists(t, s.own())
			require.NoError(t, s.Remove(), "again is nothing")
		})
	}
}

func TestAFileThatIsALink(t *testing.T) {
	s := settings(t)
	target := filepath.Join(t.TempDir(), "dotfiles")
	require.NoError(t, os.WriteFile(target, []byte("Host quay\n"), 0o640))
	require.NoError(t, os.MkdirAll(filepath.Dir(s.File), 0o700))
	require.NoError(t, os.Symlink(target, s.File))
	require.NoError(t, s.Include())
	assert.Equal(t, s.lines()+"Host quay\n", contents(t, target))
	link, err := os.Readlink(s.File)
	require.NoError(t, err)
	assert.Equal(t, target, link, "it is a link still")
	require.NoError(t, os.Remove(target))
	err = s.Include()
	assert.Equal(t, "settings-unwritable", fault.Code(err))
	assert.ErrorContains(t, err, "leads nowhere")
}

func TestAPersonWithoutAFile(t *testing.T) {
	s := settings(t)
	require.NoError(t, s.Include())
	assert.Equal(t, s.lines(), contents(t, s.File))
	info, err := os.Stat(s.File)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// What cannot be done is told with the line to add by hand, and nothing is lost.
func TestAFileThatIsNotToBeWritten(t *testing.T) {
	s := settings(t)
	s.have(t, "Host quay\n")
	require.NoError(t, os.Chmod(s.File, 0o444))
	err := s.Include()
	assert.Equal(t, "settings-unwritable", fault.Code(err))
	assert.Contains(t, fault.Remedy(err), `Include "`+s.own()+`"`)
	assert.Equal(t, "Host quay\n", contents(t, s.File))

	s = settings(t)
	require.NoError(t, os.MkdirAll(s.File, 0o700)) // a folder
	assert.Equal(t, "settings-unwritable", fault.Code(s.Include()))
}

// Two accounts at one machine have a suffix each: who comes second with the same is told, and nothing is
// changed; of one whose usher is gone nothing is in the way.
func TestTwoAccountsWithOneSuffix(t *testing.T) {
	one, two := settings(t), settings(t)
	two.File = one.File
	require.NoError(t, one.Write())
	require.NoError(t, one.Include())
	require.NoError(t, two.Write())
	before := contents(t, one.File)
	err := two.Include()
	assert.Equal(t, "suffix-taken", fault.Code(err))
	assert.Contains(t, fault.Remedy(err), "-suffix")
	assert.Equal(t, before, contents(t, one.File))
	require.NoError(t, one.Include(), "the first is not in its own way")

	other := two
	other.Suffix = "skerry"
	require.NoError(t, other.Write())
	require.NoError(t, other.Include())
	require.NoError(t, one.Remove())
	require.NoError(t, two.Write())
	require.NoError(t, two.Include())
}

// On Windows ssh has the command interpreter call the pipe, which knows double quotation marks alone; what
// ends its lines in its own way stays so.
func TestSettingsOnWindows(t *testing.T) {
	s := settings(t)
	s.System = "windows"
	s.Pipe = []string{`C:\Users\Ada Skipper\domicile.exe`, "pipe", "-login", `C:\Users\Ada Skipper\AppData\login.json`, "-suffix", "100%"}
	s.have(t, "Host quay\r\n  User ada\r\n")
	require.NoError(t, s.Write())
	require.NoError(t, s.Include())
	assert.Contains(t, contents(t, s.own()), `  ProxyCommand "C:\Users\Ada Skipper\domicile.exe" pipe -login "C:\Users\Ada Skipper\AppData\login.json" -suffix 100%% %n`+"\n")
	assert.Equal(t, s.lines()+"Host quay\r\n  User ada\r\n", contents(t, s.File))
	require.NoError(t, s.Remove())
	assert.Equal(t, "Host quay\r\n  User ada\r\n", contents(t, s.File))
}

func TestWhatCannotBeSaidToSSH(t *testing.T) {
	for suffix, fine := range map[string]bool{"domicile": true, "skerry-2": true, "": false, "*": false, "a b": false, "-a": false, "a\nHost *": false, "A": false} {
		s := settings(t)
		s.Suffix = suffix
		assert.Equal(t, fine, s.Write() == nil, "%q", suffix)
	}
	s := settings(t)
	s.Folder += "\"\nProxyCommand x"
	assert.Equal(t, "bad-path", fault.Code(s.Write()))
}
