package inside

import (
	"bufio"
	"bytes"
	"context"
	"io"
	"net"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/wish"
)

// asked is an usher of the test's own, and what it was asked.
func asked(t *testing.T, answers ...wish.Word) (socket string, wishes chan wish.Wish) {
	t.Helper()
	socket, wishes = filepath.Join(t.TempDir(), "s"), make(chan wish.Wish, 10)
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			w, err := wish.Read(c)
			if err == nil {
				wishes <- w
			}
			for _, a := range answers {
				_ = wish.Write(c, a)
			}
			c.Close()
		}
	}()
	return socket, wishes
}

// call calls the program with a line of words.
func call(t *testing.T, socket, name, line, input string) (status int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	p := Program{In: strings.NewReader(input), Out: &o, Err: &e, Socket: socket, Workspace: "fares", Folder: "/workspaces/fares"}
	status = p.Run(t.Context(), name, strings.Fields(line))
	return status, o.String(), e.String()
}

func TestWhatIsAsked(t *testing.T) {
	for line, want := range map[string]wish.Wish{
		"open https://x/":       {Kind: wish.Open, Address: "https://x/"},
		"edit":                  {Kind: wish.Edit, Path: "/workspaces/fares"},
		"edit src/../README.md": {Kind: wish.Edit, Path: "/workspaces/fares/README.md"},
		"show /etc":             {Kind: wish.Show, Path: "/etc"},
		"copy":                  {Kind: wish.Copy, Text: "from a pipe\n"},
		"copy two words":        {Kind: wish.Copy, Text: "two words"},
		"tell the tide turns":   {Kind: wish.Tell, Text: "the tide turns"},
	} {
		t.Run(line, func(t *testing.T) {
			socket, wishes := asked(t, wish.Word{Say: "a moment"}, wish.Word{Done: true})
			status, out, errs := call(t, socket, "usher", line, "from a pipe\n")
			assert.Zero(t, status, errs)
			assert.Empty(t, out)
			assert.Equal(t, "usher: a moment\n", errs)
			assert.Equal(t, want, <-wishes)
		})
	}
	socket, wishes := asked(t, wish.Word{Done: true})
	status, _, errs := call(t, socket, Browse, "https://x/", "")
	assert.Zero(t, status, errs)
	assert.Equal(t, wish.Wish{Kind: wish.Open, Address: "https://x/"}, <-wishes)
	for _, line := range []string{"", "open", "open a b", "sail", "edit a b", "tell", "run"} {
		status, _, errs := call(t, socket, "usher", line, "")
		assert.Equal(t, misuse, status, line)
		assert.Contains(t, errs, "use: usher open ADDRESS", line)
	}
}

// Where nobody is there, or says no, what one can do oneself is told; git goes on as without it.
func TestWithoutAnUsher(t *testing.T) {
	nobody := filepath.Join(t.TempDir(), "none")
	for line, want := range map[string]string{
		"open https://x/":              "To open it yourself: https://x/",
		"open http://localhost:8080/a": "domicile forward fares 8080",
		"edit a":                       "domicile edit fares /workspaces/fares/a",
		"copy a":                       "domicile run fares -- cat FILE",
	} {
		status, _, errs := call(t, nobody, "usher", line, "")
		assert.Equal(t, failed, status, line)
		assert.Contains(t, errs, "no usher is at work at the machine you sit at; there: domicile usher", line)
		assert.Contains(t, errs, want, line)
	}
	silent, _ := asked(t) // its socket stands, and nobody is behind it
	_, _, errs := call(t, silent, "usher", "open https://x/", "")
	assert.Contains(t, errs, "no usher is at work")
	refusing, _ := asked(t, wish.Word{Done: true, Error: "it is refused", Code: "not-allowed", Remedy: "there: domicile usher allow fares open"})
	status, _, errs := call(t, refusing, "usher", "open https://x/", "")
	assert.Equal(t, failed, status)
	assert.Contains(t, errs, "usher: it is refused\nWhat to do: there: domicile usher allow fares open.\nTo open it yourself: https://x/\n")
	status, _, errs = call(t, nobody, "usher", "open file:///etc/passwd", "")
	assert.Equal(t, failed, status)
	assert.Contains(t, errs, "only http:// and https:// are opened")
	assert.NotContains(t, errs, "yourself")

	for _, socket := range []string{nobody, silent, refusing} {
		status, out, _ := call(t, socket, "usher", "git-credential get", "protocol=https\nhost=x\n\n")
		assert.Zero(t, status)
		assert.Empty(t, out)
	}
}

func TestGitIsGivenASignIn(t *testing.T) {
	socket, wishes := asked(t, wish.Word{Done: true, User: "skipper", Password: "a=b"})
	_, out, errs := call(t, socket, "usher", "git-credential get", "protocol=https\nhost=git.skerry.test\nusername=skipper\n\n")
	assert.Equal(t, "username=skipper\npassword=a=b\n", out, errs)
	assert.Equal(t, wish.Wish{Kind: wish.Git, Host: "git.skerry.test", User: "skipper"}, <-wishes)
	for _, line := range []string{"git-credential store", "git-credential erase"} {
		_, out, _ = call(t, socket, "usher", line, "protocol=https\nhost=git.skerry.test\npassword=x\n\n")
		assert.Empty(t, out)
	}
	_, out, _ = call(t, socket, "usher", "git-credential get", "protocol=http\nhost=git.skerry.test\n\n")
	assert.Empty(t, out)
	assert.Empty(t, wishes, "nothing of it is asked")
}

// A command's own end is kept, and told.
func TestARunThatIsTold(t *testing.T) {
	socket, wishes := asked(t, wish.Word{Done: true})
	var o, e bytes.Buffer
	p := Program{In: strings.NewReader("in"), Out: &o, Err: &e, Socket: socket, Folder: "/"}
	assert.Equal(t, 3, p.Run(t.Context(), "usher", []string{"run", "sh", "-c", "cat; pwd; exit 3"}))
	assert.Equal(t, "in/\n", o.String())
	assert.Equal(t, "sh -c cat; pwd; exit 3 ended with exit status 3 after 0s", (<-wishes).Text)
	assert.Equal(t, 0, p.Run(t.Context(), "usher", []string{"run", "true"}))
	assert.Equal(t, "true is done after 0s", (<-wishes).Text)
	assert.Equal(t, 127, p.Run(t.Context(), "usher", []string{"run", "no-such-program"}))
	p.Socket = filepath.Join(t.TempDir(), "none")
	assert.Equal(t, 3, p.Run(t.Context(), "usher", []string{"run", "sh", "-c", "exit 3"}))
	assert.Contains(t, e.String(), "\ausher: sh -c exit 3 ended with exit status 3", "the terminal's bell is what is left")
}

// In a script nobody need wait: the program says what it waits for, and -no-wait has it end at once.
func TestNobodyNeedWait(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "s")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer listener.Close()
	said, says := io.Pipe()
	p := Program{In: strings.NewReader(""), Out: io.Discard, Err: says, Socket: socket, Folder: "/"}
	ctx, cancel := context.WithCancel(t.Context())
	over := make(chan int)
	go func() { over <- p.Run(ctx, "usher", []string{"open", "https://quay.test/"}) }()
	line, err := bufio.NewReader(said).ReadString('\n')
	require.NoError(t, err)
	assert.Contains(t, line, "waiting for the machine that you sit at")
	go func() { _, _ = io.Copy(io.Discard, said) }()
	cancel()
	assert.Equal(t, 1, <-over)

	var started [][]string
	p.Start = func(args []string) error { started = append(started, args); return nil }
	assert.Equal(t, 0, p.Run(t.Context(), "usher", []string{"-no-wait", "open", "https://quay.test/"}))
	assert.Equal(t, 0, p.Run(t.Context(), "usher", []string{"tell", "-no-wait", "ahoy"}))
	assert.Equal(t, 2, p.Run(t.Context(), "usher", []string{"-no-wait", "run", "make"}))
	assert.Equal(t, [][]string{{"open", "https://quay.test/"}, {"tell", "ahoy"}}, started)
}
