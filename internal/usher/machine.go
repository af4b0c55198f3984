package usher

import (
	"context"
	"net"
)

// Machine is what the usher may do at the machine that the person sits at. What is nil cannot be done
// there.
type Machine struct {
	// Browse opens a web address in the person's browser.
	Browse func(ctx context.Context, address string) error
	// Edit opens a file or folder of a workspace in the person's editor.
	Edit func(ctx context.Context, workspace, path string) error
	// Show opens an address, as sftp://HOST/PATH, in the person's file manager.
	Show func(ctx context.Context, address string) error
	// Copy puts a text on the clipboard.
	Copy func(ctx context.Context, text string) error
	// Tell shows a notice.
	Tell func(ctx context.Context, title, text string) error
	// SignIn asks git's own helpers for a sign-in at a host over HTTPS; input and answer are as in
	// git-credential(1).
	SignIn func(ctx context.Context, input string) (answer string, err error)
	// Keys reaches the person's SSH agent.
	Keys func(ctx context.Context) (net.Conn, error)
	// Ask tells the person of a question, without waiting for the answer.
	Ask func(Question)
}

func (m Machine) ask(q Question) {
	if m.Ask != nil {
		m.Ask(q)
	}
}
