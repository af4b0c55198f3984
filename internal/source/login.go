package source

import (
	"domicile/internal/listen"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"domicile/internal/fault"
)

// Login is how a person signs in to a git host. It stays in memory: git gets a token by
// its environment and a key by an SSH agent, and neither reaches a file, a log or the
// workspace.
type Login struct {
	Username string // of the token; empty: git
	Token    string
	Key      string // an SSH private key without a passphrase, in PEM
}

// CheckKey tells what is wrong with an SSH private key.
func CheckKey(key string) error {
	_, err := ssh.ParseRawPrivateKey([]byte(key))
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return fault.New("bad-key", "make a key for this purpose alone: ssh-keygen -t ed25519 -N ''", "the key has a passphrase, which nobody could type when it is needed")
	case err != nil:
		return fault.New("bad-key", "give the file that ssh-keygen made, the one without .pub", "the text is no SSH private key")
	}
	return nil
}

// open gives what git needs in its environment to sign in as this person.
func (l *Login) open(f *Fetcher, a Address) (env []string, done func(), err error) {
	done = func() {}
	u, err := url.Parse(a.Git)
	overHTTP := err == nil && (u.Scheme == "http" || u.Scheme == "https")
	switch {
	case l == nil:
		return nil, done, nil
	case overHTTP && l.Token != "":
		return l.header(u), done, nil
	case !overHTTP && l.Key != "":
		return l.agent(f, a)
	}
	return nil, done, nil
}

// header signs in over HTTP, for the repository and its neighbours only: what .gitmodules
// names elsewhere does not get it, and no redirection is followed with it.
func (l *Login) header(u *url.URL) []string {
	name := l.Username
	if name == "" {
		name = "git"
	}
	scope := url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}
	if folder := path.Dir(strings.TrimRight(u.Path, "/")); folder != "/" && folder != "." {
		scope.Path = folder + "/"
	}
	value := "Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte(name+":"+l.Token))
	return []string{"GIT_CONFIG_COUNT=2", "GIT_CONFIG_KEY_0=http." + scope.String() + ".extraHeader", "GIT_CONFIG_VALUE_0=" + value,
		"GIT_CONFIG_KEY_1=http.followRedirects", "GIT_CONFIG_VALUE_1=false"}
}

// agent serves the key to ssh as long as git works, for the repository's host only.
func (l *Login) agent(f *Fetcher, a Address) (env []string, done func(), err error) {
	key, err := ssh.ParseRawPrivateKey([]byte(l.Key))
	if err != nil {
		return nil, func() {}, CheckKey(l.Key)
	}
	ring := agent.NewKeyring()
	if err := ring.Add(agent.AddedKey{PrivateKey: key}); err != nil {
		return nil, func() {}, fmt.Errorf("use the key of %s: %w", a.Host(), err)
	}
	folder, err := os.MkdirTemp("", "domicile-git-")
	if err != nil {
		return nil, func() {}, fmt.Errorf("make a folder for the key's agent: %w", err)
	}
	socket, config := filepath.Join(folder, "agent.sock"), filepath.Join(folder, "config")
	listener, err := net.Listen("unix", socket)
	if err == nil {
		host, _, _ := strings.Cut(a.Host(), ":")
		text := fmt.Sprintf("Host %s\n  IdentityAgent %s\nHost *\n  IdentityAgent none\n", host, socket)
		err = os.WriteFile(config, []byte(text), 0o600)
	}
	if err != nil {
		os.RemoveAll(folder)
		return nil, func() {}, fmt.Errorf("serve the key of %s: %w", a.Host(), err)
	}
	go func() {
		accepting := listen.Patient(listener)
		for {
			conn, err := accepting.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_ = agent.ServeAgent(ring, conn) // ends with ssh
			}()
		}
	}()
	return []string{"GIT_SSH_COMMAND=" + f.ssh(config)}, func() { listener.Close(); os.RemoveAll(folder) }, nil
}
