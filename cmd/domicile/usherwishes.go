package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"domicile/internal/usher"
	"domicile/internal/wish"
)

// decisions are the verbs by which a person decides.
var decisions = map[string]usher.Answer{"allow": usher.Always, "ask": usher.Each, "refuse": usher.Never, "forget": usher.Forget}

// decide tells the usher that is at work what its person has decided.
func (h *hall) decide(ctx context.Context, t *terminal, args []string) error {
	answer, known := decisions[args[0]]
	switch {
	case !known:
		return wrongUse("%q is none of allow, ask, refuse and forget", args[0])
	case answer == usher.Forget && (len(args) < 2 || len(args) > 3):
		return wrongUse("a workspace's name is wanted, and a kind if you like")
	case answer != usher.Forget && (len(args) < 3 || len(args) > 4):
		return wrongUse("a workspace's name and one of %s are wanted, and a host or a key's fingerprint where it is for that alone", kindsLine())
	}
	d := usher.Decision{Workspace: args[1], Answer: answer}
	if len(args) > 2 {
		d.Kind = wish.Kind(args[2])
	}
	if len(args) > 3 {
		d.Subject = args[3]
	}
	if _, err := h.tell(ctx, "/", d); err != nil {
		return err
	}
	what := strings.TrimSpace(string(d.Kind) + " " + d.Subject)
	switch answer {
	case usher.Always:
		fmt.Fprintf(t.out, "%s may have: %s.\n", d.Workspace, what)
	case usher.Each:
		fmt.Fprintf(t.out, "You are asked each time that %s wants: %s.\n", d.Workspace, what)
	case usher.Never:
		fmt.Fprintf(t.out, "%s may not have: %s.\n", d.Workspace, what)
	default:
		fmt.Fprintf(t.out, "What was decided about %s is forgotten: you are asked the next time.\n", d.Workspace)
	}
	return nil
}

// tell tells the usher that is at work something, and gives what it does then.
func (h *hall) tell(ctx context.Context, path string, what any) (usher.Status, error) {
	b, err := json.Marshal(what)
	if err != nil {
		return usher.Status{}, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://usher"+path, bytes.NewReader(b))
	if err != nil {
		return usher.Status{}, err
	}
	return h.answer(r)
}

func kindsLine() string {
	names := make([]string, len(usher.Kinds))
	for i, k := range usher.Kinds {
		names[i] = string(k)
	}
	return strings.Join(names, ", ")
}

// putQuestion tells the person what a workspace wants.
func putQuestion(ctx context.Context, t *terminal, o usher.Options, q usher.Question, interactive bool) {
	text := q.Workspace + " " + q.Text
	if o.Machine.Tell != nil {
		go func() { // a desktop may be slow to show it
			_ = o.Machine.Tell(ctx, text, q.Allowed())
		}()
	}
	stamp := time.Now().Format("15:04:05")
	if interactive {
		fmt.Fprintf(t.out, "%s  %s. Allow it? once, always, later, never: ", stamp, text)
		flushTerminal(t)
		return
	}
	fmt.Fprintf(t.out, "%s  %s. To allow it: %s\n", stamp, text, q.Allowed())
}

// flushTerminal shows what stands in an unfinished line.
func flushTerminal(t *terminal) {
	if f, ok := t.out.(interface{ Flush() error }); ok {
		_ = f.Flush()
	}
}

// canHear tells whether the person can answer in the terminal that the usher was started in.
func canHear(t *terminal) *atomic.Bool {
	file, is := fileOf(t.in)
	if !is {
		return &atomic.Bool{}
	}
	return foreground(file)
}

// hearAnswers reads answers to the oldest question that waits.
func hearAnswers(t *terminal, u *usher.Usher) {
	lines := bufio.NewScanner(t.in)
	for lines.Scan() {
		list := u.Questions()
		if len(list) == 0 {
			continue
		}
		q := list[0]
		answer := answerOf(lines.Text())
		err := u.Decide(usher.Decision{Workspace: q.Workspace, Kind: q.Kind, Subject: q.Subject, Answer: answer, Number: q.Number})
		if err != nil {
			fmt.Fprintf(t.err, "domicile: %v\n", err)
		}
		if list = u.Questions(); len(list) > 0 {
			fmt.Fprintf(t.out, "%s %s. Allow it? once, always, later, never: ", list[0].Workspace, list[0].Text)
			flushTerminal(t)
		}
	}
}

// answerOf reads an answer, of which the first letter is enough.
func answerOf(text string) usher.Answer {
	text = strings.ToLower(strings.TrimSpace(text))
	for _, a := range []usher.Answer{usher.Once, usher.Always, usher.Later, usher.Never} {
		if text != "" && strings.HasPrefix(string(a), text) {
			return a
		}
	}
	return usher.Answer(text)
}

// printLent tells what workspaces may have, and what waits for an answer.
func printLent(t *terminal, s usher.Status) {
	for _, q := range s.Questions {
		fmt.Fprintf(t.out, "\n%s %s (%s ago).\nTo allow it: %s\n", q.Workspace, q.Text, time.Since(q.Since).Round(time.Second), q.Allowed())
	}
	words := map[usher.Answer]string{usher.Always: "may have", usher.Never: "may not have", usher.Each: "asks each time for"}
	first := true
	for _, p := range s.Places {
		for _, d := range p.Decisions {
			if first {
				fmt.Fprintln(t.out)
				first = false
			}
			fmt.Fprintf(t.out, "%s %s: %s\n", p.Name, words[d.Answer], strings.TrimSpace(string(d.Kind)+" "+d.Subject))
		}
		for _, r := range p.Reverse {
			text := fmt.Sprintf("%s: port %d of this machine is at localhost:%d inside", p.Name, r.Local, r.Inside)
			if r.Reason != "" {
				text += ", but " + r.Reason
			}
			fmt.Fprintln(t.out, text)
		}
		if p.Reason != "" {
			fmt.Fprintf(t.out, "Programs in %s do not find the usher: %s.\n", p.Name, strings.TrimSuffix(p.Reason, "."))
		}
	}
}
