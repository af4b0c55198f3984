// Package inside is the program "usher" in a workspace: it asks the machine its person sits at for
// something, and says what to do instead where nobody answers.
package inside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"domicile/internal/fault"
	"domicile/internal/wish"
)

// Program is one call of it.
type Program struct {
	In       io.Reader
	Out, Err io.Writer
	Socket   string // where the usher answers
	// Workspace is the name of it, for what is said.
	Workspace string
	Folder    string // the current one
	// Start starts the program again with other arguments, and does not wait for it; nil: it cannot.
	Start func(args []string) error
}

const use = `use: usher open ADDRESS       open a web address in the browser of the machine you sit at
     usher edit [PATH]         open a file or folder in your editor there
     usher show [PATH]         show it in your file manager there
     usher copy [TEXT]         put a text, or standard input, on your clipboard there
     usher tell TEXT           show a notice there
     usher run COMMAND...      run a command here, and show a notice there when it ends
With -no-wait before the words, open, edit, show, copy and tell do not wait for the answer.
`

// The exit statuses.
const (
	done   = 0
	failed = 1
	misuse = 2
)

// Browse is the name by which the program opens what it is given, as programs call BROWSER.
const Browse = "browse"

// noWait has the program end before there is an answer.
const noWait = "-no-wait"

// sayAfter is after how long without a word the program says what it waits for.
const sayAfter = 2 * time.Second

// later carries out a command line in a program of its own, which nobody waits for.
func (p Program) later(ctx context.Context, args []string) int {
	if len(args) == 0 || args[0] == "run" || args[0] == "git-credential" || p.Start == nil {
		fmt.Fprint(p.Err, use)
		return misuse
	}
	if err := p.Start(args); err != nil {
		fmt.Fprintf(p.Err, "usher: %v\n", err)
		return failed
	}
	return done
}

// answerLimit is how long an answer is waited for: a person may have to be asked.
const answerLimit = 5 * time.Minute

// reachLimit is how long the socket may take: what waits there longer is stuck.
const reachLimit = 5 * time.Second

// Run carries out a command line and returns the exit status.
func (p Program) Run(ctx context.Context, name string, args []string) int {
	if name == Browse {
		args = append([]string{"open"}, args...)
	}
	if len(args) == 0 {
		fmt.Fprint(p.Err, use)
		return misuse
	}
	verb, rest := args[0], args[1:]
	if verb == noWait || len(rest) > 0 && rest[0] == noWait {
		return p.later(ctx, slices.DeleteFunc(slices.Clone(args), func(word string) bool { return word == noWait }))
	}
	text := strings.Join(rest, " ")
	switch {
	case verb == "open" && len(rest) == 1:
		return p.asks(ctx, wish.Wish{Kind: wish.Open, Address: rest[0]})
	case (verb == "edit" || verb == "show") && len(rest) <= 1:
		return p.asks(ctx, wish.Wish{Kind: wish.Kind(verb), Path: p.path(text)})
	case verb == "copy" && len(rest) > 0:
		return p.asks(ctx, wish.Wish{Kind: wish.Copy, Text: text})
	case verb == "copy":
		b, err := io.ReadAll(io.LimitReader(p.In, wish.LongestText+1))
		if err != nil {
			fmt.Fprintf(p.Err, "usher: read standard input: %v\n", err)
			return failed
		}
		return p.asks(ctx, wish.Wish{Kind: wish.Copy, Text: string(b)})
	case verb == "tell" && len(rest) > 0:
		return p.asks(ctx, wish.Wish{Kind: wish.Tell, Text: text})
	case verb == "run" && len(rest) > 0:
		return p.run(ctx, rest)
	case verb == "git-credential" && len(rest) == 1:
		return p.git(ctx, rest[0])
	case verb == "help", verb == "-h", verb == "-help", verb == "--help":
		fmt.Fprint(p.Out, use)
		return done
	}
	fmt.Fprint(p.Err, use)
	return misuse
}

func (p Program) path(name string) string {
	if !filepath.IsAbs(name) {
		name = filepath.Join(p.Folder, name)
	}
	return filepath.Clean(name)
}

// errNobody is that no usher is at work.
var errNobody = errors.New("no usher is at work at the machine you sit at; there: domicile usher")

// ask asks and gives the last word; what is said meanwhile goes to standard error.
func (p Program) ask(ctx context.Context, w wish.Wish) (wish.Word, error) {
	if err := w.Check(); err != nil {
		return wish.Word{}, err
	}
	whole := ctx
	ctx, cancel := context.WithTimeout(ctx, answerLimit)
	defer cancel()
	dial := net.Dialer{Timeout: reachLimit}
	conn, err := dial.DialContext(ctx, "unix", p.Socket)
	if err != nil {
		return wish.Word{}, errNobody
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := wish.Write(conn, w); err != nil {
		return wish.Word{}, errNobody
	}
	heard := false
	waiting := time.AfterFunc(sayAfter, func() {
		fmt.Fprintf(p.Err, "usher: waiting for the machine that you sit at, up to %s (%s does not wait)\n", answerLimit, noWait)
	})
	defer waiting.Stop()
	last, err := wish.Words(conn, func(text string) {
		waiting.Stop()
		heard = true
		fmt.Fprintf(p.Err, "usher: %s\n", text)
	})
	switch {
	case whole.Err() != nil:
		return last, whole.Err()
	case ctx.Err() != nil:
		return last, fmt.Errorf("the usher did not answer within %s", answerLimit)
	case err != nil && !heard:
		return last, errNobody // the socket stands, and nobody is behind it any more
	case err != nil:
		return last, err
	case last.Error != "":
		return last, &fault.Fault{Code: last.Code, Message: last.Error, Remedy: last.Remedy}
	}
	return last, nil
}

func (p Program) asks(ctx context.Context, w wish.Wish) int {
	last, err := p.ask(ctx, w)
	if err != nil {
		fmt.Fprintf(p.Err, "usher: %v\n", err)
		if remedy := fault.Remedy(err); remedy != "" {
			fmt.Fprintln(p.Err, fault.ToDo(remedy))
		}
		if instead := p.instead(w); instead != "" && (errors.Is(err, errNobody) || helped[fault.Code(err)]) {
			fmt.Fprintln(p.Err, instead)
		}
		return failed
	}
	if last.Say != "" {
		fmt.Fprintf(p.Err, "usher: %s\n", last.Say)
	}
	return done
}

// helped are the faults after which one can help oneself.
var helped = map[string]bool{"not-allowed": true, "nobody-answered": true, "usher-cannot": true, "no-browser": true, "no-editor": true, "no-clipboard": true, "no-program": true}

// instead is what one can do without an usher.
func (p Program) instead(w wish.Wish) string {
	name := p.Workspace
	if name == "" {
		name = "NAME"
	}
	switch w.Kind {
	case wish.Open:
		text := "To open it yourself: " + w.Address
		if u, err := wish.Address(w.Address); err == nil && wish.IsLoopback(u.Hostname()) {
			text += "\nFirst, at the machine you sit at: domicile forward " + name + " " + wish.PortOf(u)
		}
		return text
	case wish.Edit:
		return "At the machine you sit at: domicile edit " + name + " " + w.Path
	case wish.Show:
		return "At the machine you sit at: sftp " + name
	case wish.Copy:
		return "To bring a text: domicile run " + name + " -- cat FILE"
	}
	return ""
}

// run runs a command and tells of its end; its exit status is the command's.
func (p Program) run(ctx context.Context, args []string) int {
	c := exec.CommandContext(ctx, args[0], args[1:]...)
	c.Stdin, c.Stdout, c.Stderr, c.Dir = p.In, p.Out, p.Err, p.Folder
	began := time.Now()
	err := c.Run()
	status, how := done, "is done"
	var ended *exec.ExitError
	switch {
	case errors.As(err, &ended) && ended.Exited():
		status = ended.ExitCode()
		how = fmt.Sprintf("ended with exit status %d", status)
	case errors.As(err, &ended):
		status, how = failed, "was ended: "+ended.String()
	case err != nil:
		fmt.Fprintf(p.Err, "usher: %v\n", err)
		return 127 // as shells say that there is no such program
	}
	text := fmt.Sprintf("%s %s after %s", strings.Join(args, " "), how, time.Since(began).Round(time.Second))
	if _, err := p.ask(ctx, wish.Wish{Kind: wish.Tell, Text: text}); err != nil {
		fmt.Fprintf(p.Err, "\ausher: %s (%v)\n", text, err) // the terminal's bell is what is left
	}
	return status
}

// git is a credential helper of git's (gitcredentials(7)): it gives a sign-in and keeps none. Where it
// has none to give, git goes on as without it.
func (p Program) git(ctx context.Context, verb string) int {
	if verb != "get" {
		return done // what is asked for here is kept at the person's machine alone
	}
	w, wanted, err := wish.ReadGit(p.In)
	if err != nil || !wanted {
		return done
	}
	last, err := p.ask(ctx, w)
	if errors.Is(err, errNobody) || ctx.Err() != nil {
		return done
	}
	if err != nil {
		fmt.Fprintf(p.Err, "usher: %v\n", err)
		return done
	}
	fmt.Fprint(p.Out, last.GitHears())
	return done
}

// startAgain starts this program in a session of its own, which outlives the terminal.
func startAgain(args []string) error {
	c := exec.Command("/proc/self/exe", args...)
	c.Args[0] = "usher"
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	return c.Start()
}

// Main is the program as it is called.
func Main(ctx context.Context, socket string) int {
	folder, err := os.Getwd()
	if err != nil {
		folder = "/"
	}
	p := Program{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Socket: socket, Workspace: os.Getenv("DOMICILE_WORKSPACE"), Folder: folder, Start: startAgain}
	return p.Run(ctx, filepath.Base(os.Args[0]), os.Args[1:])
}
