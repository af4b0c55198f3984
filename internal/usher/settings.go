package usher

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"al.essio.dev/pkg/shellescape"

	"domicile/internal/fault"
)

// Settings are what OpenSSH's client is told: a file of the usher's own, which the person's file
// includes by one line.
type Settings struct {
	// File is the person's own, such as ~/.ssh/config.
	File string
	// Folder is where the usher's files are.
	Folder string
	// Suffix is what a workspace's name is followed by, after a point: domicile makes
	// "ssh timetable.domicile" of it.
	Suffix string
	// Pipe is the command, in words, that joins its standard input and output to a workspace; the
	// name of the host is added to it.
	Pipe []string
	// System is this machine's, as runtime.GOOS; empty: one with a POSIX shell.
	System string
	// HostKey is the service's, as in an authorized_keys line, and HostAuthority the key that certifies
	// it: what the service shows after a change of its key is known by that. Empty: there is none.
	HostKey, HostAuthority string
}

// suffixes are what may follow a workspace's name: names of hosts, so that nothing of them means
// something else to a shell or to ssh.
var suffixes = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// notice stands above the line that the person's file gets.
const notice = "# Addresses of workspaces, kept by Domicile. To take these two lines out: domicile usher -uninstall\n"

func (s Settings) own() string        { return filepath.Join(s.Folder, "ssh_config") }
func (s Settings) knownHosts() string { return filepath.Join(s.Folder, "known_hosts") }

// lines are what the person's file gets, at its beginning: what comes before the first Host or Match
// holds for all, and what is said first counts.
func (s Settings) lines() string { return notice + "Include \"" + s.own() + "\"\n" }

// check tells whether the paths and names can be said in ssh's files.
func (s Settings) check() error {
	if !suffixes.MatchString(s.Suffix) {
		return fault.New("bad-suffix", "take small letters, digits and hyphens, such as domicile", "%q cannot follow the names of workspaces", s.Suffix)
	}
	for _, path := range append([]string{s.Folder}, s.Pipe...) {
		if strings.ContainsAny(path, "\"\n\r\x00*?[") {
			return fault.New("bad-path", "move it to a folder without quotation marks, asterisks and brackets in its name", "%q cannot be said in ssh's settings", path)
		}
	}
	return nil
}

// Write writes the usher's own files, where something has changed.
func (s Settings) Write() error {
	if err := s.check(); err != nil {
		return err
	}
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return fmt.Errorf("make the usher's folder: %w", err)
	}
	pipe := strings.ReplaceAll(s.command(), "%", "%%")
	text := fmt.Sprintf(`# Written by domicile usher, and written anew when something changes.
Host *.%s
  ProxyCommand %s %%n
  User domicile
  UserKnownHostsFile "%s"
  GlobalKnownHostsFile none
  StrictHostKeyChecking yes
  CheckHostIP no
  UpdateHostKeys no
  PreferredAuthentications none
  ServerAliveInterval 15
  ServerAliveCountMax 8
`, s.Suffix, pipe, s.knownHosts())
	known := "*." + s.Suffix + " " + strings.TrimSpace(s.HostKey) + "\n"
	if s.HostAuthority != "" {
		known += "@cert-authority *." + s.Suffix + " " + strings.TrimSpace(s.HostAuthority) + "\n"
	}
	return errors.Join(replace(s.knownHosts(), []byte(known), 0o600), replace(s.own(), []byte(text), 0o600))
}

// command is the pipe's, as the shell wants it that ssh calls: on Windows the command interpreter, which
// knows double quotation marks alone.
func (s Settings) command() string {
	if s.System != "windows" {
		return shellescape.QuoteCommand(s.Pipe)
	}
	words := make([]string, len(s.Pipe))
	for i, word := range s.Pipe {
		words[i] = word
		if strings.ContainsAny(word, " \t&|<>()^,;=") {
			words[i] = "\"" + word + "\""
		}
	}
	return strings.Join(words, " ")
}

// Included tells whether the person's file has the line.
func (s Settings) Included() (bool, error) {
	b, _, _, err := s.read()
	return bytes.HasPrefix(b, []byte(s.lines())), err
}

// Include adds the line to the person's file, once. The rest of it stays as it was, byte for byte.
func (s Settings) Include() error {
	b, path, mode, err := s.read()
	if err != nil {
		return err
	}
	if err := s.alone(b); err != nil || bytes.HasPrefix(b, []byte(s.lines())) {
		return err
	}
	rest := bytes.Replace(b, []byte(s.lines()), nil, 1) // it counts at the beginning alone
	return s.write(path, append([]byte(s.lines()), rest...), mode)
}

// mostOwn bounds how large an usher's own file is, in bytes.
const mostOwn = 64 << 10

// alone refuses a suffix that another account's usher has in the same file already: of two entries for the
// same hosts ssh takes the first, and the other account's workspaces would not be found.
func (s Settings) alone(b []byte) error {
	for part := range strings.SplitSeq(string(b), notice+"Include \"") {
		path, _, is := strings.Cut(part, "\"\n")
		if !is || path == s.own() || !filepath.IsAbs(path) {
			continue
		}
		info, err := os.Lstat(path)
		if err != nil || !info.Mode().IsRegular() || info.Size() > mostOwn {
			continue
		}
		other, err := os.ReadFile(path)
		if err == nil && bytes.Contains(other, []byte("\nHost *."+s.Suffix+"\n")) {
			return fault.New("suffix-taken", "choose another for this account: domicile usher -suffix NAME", "addresses that end in .%s are another account's in %s: %s", s.Suffix, s.File, path)
		}
	}
	return nil
}

// Remove takes the line out of the person's file, and the usher's own files away.
func (s Settings) Remove() error {
	b, path, mode, err := s.read()
	if err == nil && bytes.Contains(b, []byte(s.lines())) {
		err = s.write(path, bytes.Replace(b, []byte(s.lines()), nil, 1), mode)
	}
	for _, own := range []string{s.own(), s.knownHosts()} {
		if removeErr := os.Remove(own); removeErr != nil && !errors.Is(removeErr, fs.ErrNotExist) {
			err = errors.Join(err, removeErr)
		}
	}
	return err
}

// mostSettings bounds how large a person's file may be, in bytes.
const mostSettings = 16 << 20

// read reads the person's file. It may be a link: then what it leads to is the person's file.
func (s Settings) read() (b []byte, path string, mode fs.FileMode, err error) {
	path, err = filepath.EvalSymlinks(s.File)
	if errors.Is(err, fs.ErrNotExist) {
		if _, linkErr := os.Lstat(s.File); linkErr == nil {
			return nil, "", 0, fault.New("settings-unwritable", "make the file, or remove the link", "%s is a link that leads nowhere", s.File)
		}
		return nil, s.File, 0o600, nil
	}
	var info fs.FileInfo
	if err == nil {
		info, err = os.Stat(path)
	}
	if err != nil {
		return nil, "", 0, fmt.Errorf("read ssh's settings: %w", err)
	}
	if !info.Mode().IsRegular() || info.Size() > mostSettings {
		return nil, "", 0, fault.New("settings-unwritable", s.byHand(), "%s is no file of a size that settings have", s.File)
	}
	if b, err = os.ReadFile(path); err != nil {
		return nil, "", 0, fmt.Errorf("read ssh's settings: %w", err)
	}
	return b, path, info.Mode().Perm(), nil
}

func (s Settings) byHand() string {
	return fmt.Sprintf("add this at its beginning by hand: Include \"%s\"", s.own())
}

func (s Settings) write(path string, b []byte, mode fs.FileMode) error {
	if mode&0o200 == 0 {
		return fault.New("settings-unwritable", s.byHand(), "%s is not to be written to", s.File)
	}
	err := os.MkdirAll(filepath.Dir(path), 0o700)
	if err == nil {
		err = replace(path, b, mode)
	}
	if err != nil {
		return fault.Wrap(err, "settings-unwritable", s.byHand(), "%s cannot be changed", s.File)
	}
	return nil
}

// replace writes a file whole or not at all, where it does not hold the same already.
func replace(path string, b []byte, mode fs.FileMode) error {
	if now, err := os.ReadFile(path); err == nil && bytes.Equal(now, b) {
		return nil
	}
	file, err := os.CreateTemp(filepath.Dir(path), ".domicile-")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name()) // where it was not moved
	_, err = file.Write(b)
	if err == nil {
		err = os.Chmod(file.Name(), mode) // not of the open file: Windows has no such call
	}
	if err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}
