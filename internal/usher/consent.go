package usher

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"domicile/internal/fault"
	"domicile/internal/wish"
)

// Keys is the kind of what is lent beside wishes: the person's SSH agent. What is decided of it counts
// for all keys, or for one by its fingerprint.
const Keys wish.Kind = "keys"

// Kinds are all that a person decides about.
var Kinds = append(slices.Clone(wish.Kinds), Keys)

// Answer is what a person says to a question, or decides beforehand.
type Answer string

// The answers. Once and Later are of one question; the others are kept.
const (
	Once   Answer = "once"
	Later  Answer = "later" // not this time
	Always Answer = "always"
	Never  Answer = "never"
	Each   Answer = "each" // ask each time
	Forget Answer = "forget"
)

// Decision is what the person decides about what a workspace may have.
type Decision struct {
	Workspace string    `json:"workspace"`
	Kind      wish.Kind `json:"kind,omitempty"` // none: all, to be forgotten
	Subject   string    `json:"subject,omitempty"`
	Answer    Answer    `json:"answer"`
	Number    int       `json:"number,omitempty"` // of the question, for an answer that is not kept
	// Made is when the workspace was made: another one of that name has nothing of it.
	Made time.Time `json:"made,omitzero"`
	// Epoch is the workspace's when it was decided: after somebody else was allowed to type there, the person is
	// asked again.
	Epoch string `json:"epoch,omitempty"`
}

// Check tells what is wrong with a decision.
func (d Decision) Check() error {
	switch d.Answer {
	case Once, Later, Forget:
		return nil
	case Always, Never, Each:
	default:
		return fault.New("bad-decision", "once, later, always, never, each or forget", "%q is no answer", d.Answer)
	}
	if !slices.Contains(Kinds, d.Kind) {
		names := make([]string, len(Kinds))
		for i, k := range Kinds {
			names[i] = string(k)
		}
		return fault.New("bad-decision", "one of "+strings.Join(names, ", "), "%q is nothing that a workspace asks for", d.Kind)
	}
	switch {
	case d.Kind == wish.Git && d.Subject == "":
		return fault.New("bad-decision", "name the host: domicile usher allow "+d.Workspace+" git HOST", "a sign-in is for one host")
	case d.Kind == wish.Git && !wish.IsHost(d.Subject):
		return fault.New("bad-decision", "write it as in the address, such as git.example.com or git.example.com:8443", "%q is no host", d.Subject)
	case d.Kind == Keys && d.Subject != "" && !fingerprints.MatchString(d.Subject):
		return fault.New("bad-decision", "take one that ssh-add -l shows", "%q is no key's fingerprint", d.Subject)
	case d.Kind != wish.Git && d.Kind != Keys && d.Subject != "":
		return fault.New("bad-decision", "leave it out", "%s is decided for the whole workspace, not for %q", d.Kind, d.Subject)
	}
	return nil
}

// fingerprints are those of keys, as OpenSSH shows them.
var fingerprints = regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}$`)

// Question is something that a workspace wants and nobody has decided about.
type Question struct {
	Number    int       `json:"number"`
	Workspace string    `json:"workspace"`
	Kind      wish.Kind `json:"kind"`
	Subject   string    `json:"subject,omitempty"`
	Text      string    `json:"text"`
	Since     time.Time `json:"since"`
}

// question is a request that waits for the person. Each answer is for one request; of those that ask about the same,
// one is shown at a time.
type question struct {
	Question
	shown    chan struct{} // closed when the person is asked
	answered chan struct{} // closed when the person has answered
	allowed  bool
}

// isShown reports whether the person has been asked. The lock is held.
func (q *question) isShown() bool { return q.Number > 0 }

const (
	// patience is how long a person has to answer.
	patience = 2 * time.Minute
	// maxShown is how many questions of one workspace are shown at a time. At most mostVisits wait.
	maxShown = 4
	// rest is how long a question is not put again that nobody answered: programs try again and again.
	rest = 10 * time.Minute
)

// consent is what the person has decided, and the questions that wait.
type consent struct {
	path string
	agreed
	questions []*question
	asked     int // how many there were
	// ignored are questions that nobody answered, until when they are not put again.
	ignored map[string]time.Time
}

// agreed is what a file has of it.
type agreed struct {
	Decisions []Decision `json:"decisions"`
	Reverse   []Reverse  `json:"reverse"`
}

// recall reads what was decided. What cannot be understood is asked again.
func recall(path string) (consent, error) {
	c := consent{path: path}
	if path == "" {
		return c, nil
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, fmt.Errorf("read what was decided: %w", err)
	}
	_ = json.Unmarshal(b, &c.agreed)
	c.Decisions = slices.DeleteFunc(c.Decisions, func(d Decision) bool { return d.Check() != nil })
	c.Reverse = slices.DeleteFunc(c.Reverse, func(r Reverse) bool { return r.Check() != nil })
	return c, nil
}

func (c *consent) keep() error {
	if c.path == "" {
		return nil
	}
	b, err := json.MarshalIndent(c.agreed, "", "  ")
	if err == nil {
		err = replace(c.path, b, 0o600)
	}
	if err != nil {
		return fmt.Errorf("keep what was decided: %w", err)
	}
	return nil
}

// keepOnly forgets what was decided of workspaces that are gone. It is written with the next decision.
func (c *consent) keepOnly(there func(workspace string) bool) {
	c.Decisions = slices.DeleteFunc(c.Decisions, func(d Decision) bool { return !there(d.Workspace) })
	c.Reverse = slices.DeleteFunc(c.Reverse, func(r Reverse) bool { return !there(r.Workspace) })
}

// counts reports whether a decision is about the workspace as it is now. A refusal outlives those who typed there.
func (d Decision) counts(p *place) bool {
	return d.Made.Equal(p.made) && (d.Answer == Never || d.Epoch == p.epoch)
}

// decided is what the person has decided; empty: nothing. What is said of a subject goes before what
// is said of the kind.
func (c *consent) decided(workspace string, p *place, kind wish.Kind, subject string) Answer {
	general := Answer("")
	for _, d := range c.Decisions {
		if d.Workspace != workspace || !d.counts(p) || d.Kind != kind {
			continue
		}
		switch d.Subject {
		case subject:
			return d.Answer
		case "":
			general = d.Answer
		}
	}
	return general
}

// Decide takes a decision of the person's, and answers the questions that it settles.
func (u *Usher) Decide(d Decision) error {
	d.Subject = strings.TrimSpace(d.Subject)
	if err := d.Check(); err != nil {
		return err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	p := u.places[d.Workspace]
	if p == nil {
		return fault.New("not-found", "domicile list", "you have no workspace %q", d.Workspace)
	}
	d.Made, d.Epoch = p.made, p.epoch
	if d.Kind == wish.Git {
		d.Subject = strings.ToLower(d.Subject)
	}
	p.unheard = time.Time{} // the person wants to hear of it
	select {
	case p.again <- struct{}{}:
	default:
	}
	c := &u.consent
	clear(c.ignored)
	if d.Answer == Once || d.Answer == Later {
		c.settle(func(q *question) bool { return q.isShown() && q.Number == d.Number && q.Workspace == d.Workspace }, d.Answer == Once)
		u.showNext(d.Workspace)
		return nil
	}
	c.Decisions = slices.DeleteFunc(c.Decisions, func(was Decision) bool {
		return was.Workspace == d.Workspace && (d.Answer == Forget && (d.Kind == "" || d.Kind == was.Kind) || was.Kind == d.Kind && was.Subject == d.Subject)
	})
	if d.Answer != Forget {
		d.Number = 0
		c.Decisions = append(c.Decisions, d)
	}
	if d.Answer == Always || d.Answer == Never {
		c.settle(func(q *question) bool {
			return q.Workspace == d.Workspace && q.Kind == d.Kind && (d.Subject == "" || q.Subject == d.Subject)
		}, d.Answer == Always)
		u.showNext(d.Workspace)
	}
	return c.keep()
}

// settle answers questions that wait.
func (c *consent) settle(which func(*question) bool, allowed bool) {
	c.questions = slices.DeleteFunc(c.questions, func(q *question) bool {
		if !which(q) {
			return false
		}
		q.allowed = allowed
		close(q.answered)
		return true
	})
}

// allowed asks the person whether a workspace may have something, where that is not decided yet.
func (u *Usher) allowed(ctx context.Context, q Question, say func(string)) error {
	u.mu.Lock()
	p := u.places[q.Workspace]
	if p == nil {
		u.mu.Unlock()
		return fault.New("not-found", "", "the workspace is gone")
	}
	answer := u.consent.decided(q.Workspace, p, q.Kind, q.Subject)
	if answer == Always || answer == Never {
		u.mu.Unlock()
		if answer == Always {
			return nil
		}
		return refusedBy(q)
	}
	if time.Now().Before(u.consent.ignored[q.about()]) {
		u.mu.Unlock()
		return fault.New("nobody-answered", "at the machine you sit at: "+q.Allowed(), "the person was asked a while ago and did not answer")
	}
	waits := &question{Question: q, shown: make(chan struct{}), answered: make(chan struct{})}
	u.consent.questions = append(u.consent.questions, waits)
	u.showNext(q.Workspace)
	u.mu.Unlock()
	say("the person is asked at their machine; there: " + q.Allowed())
	return u.wait(ctx, waits)
}

// about tells one question from another, whatever its words.
func (q Question) about() string { return q.Workspace + " " + string(q.Kind) + " " + q.Subject }

func refusedBy(q Question) error {
	return fault.New("not-allowed", "at the machine you sit at: "+q.Allowed(), "it is refused at the person's machine")
}

// Allowed is the command that allows it.
func (q Question) Allowed() string {
	return strings.TrimSpace("domicile usher allow " + q.about())
}

// showNext asks the person about requests of a workspace for whose question it is time. The lock is held.
func (u *Usher) showNext(workspace string) {
	c, shown, about := &u.consent, 0, map[string]bool{}
	for _, q := range c.questions {
		if q.Workspace == workspace && q.isShown() {
			shown++
			about[q.about()] = true
		}
	}
	for _, q := range c.questions {
		if q.Workspace != workspace || q.isShown() || about[q.about()] || shown >= maxShown {
			continue
		}
		shown++
		about[q.about()] = true
		c.asked++
		q.Number, q.Since = c.asked, time.Now()
		close(q.shown)
		go u.o.Machine.ask(q.Question)
	}
}

// wait waits for the answer to a request's question.
func (u *Usher) wait(ctx context.Context, q *question) error {
	var limit <-chan time.Time // from when the person is asked
	for shown := q.shown; ; {
		select {
		case <-shown:
			timer := time.NewTimer(patience)
			defer timer.Stop()
			shown, limit = nil, timer.C
			continue
		case <-q.answered:
			if q.allowed {
				return nil
			}
			return refusedBy(q.Question)
		case <-ctx.Done():
		case <-limit:
		}
		break
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	c := &u.consent
	select {
	case <-q.answered: // at the same moment
		if q.allowed {
			return nil
		}
		return refusedBy(q.Question)
	default:
	}
	c.questions = slices.DeleteFunc(c.questions, func(other *question) bool { return other == q })
	defer u.showNext(q.Workspace)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if c.ignored == nil || len(c.ignored) > mostRemembered {
		c.ignored = map[string]time.Time{}
	}
	c.ignored[q.about()] = time.Now().Add(rest)
	// Those behind it would not be answered either.
	c.settle(func(other *question) bool { return other.about() == q.about() }, false)
	return fault.New("nobody-answered", "at the machine you sit at: "+q.Allowed(), "the person did not answer within %s", patience)
}

// Questions are those that the person has been asked, the oldest first.
func (u *Usher) Questions() []Question {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.consent.shown()
}

// shown are the questions that the person has been asked. The lock is held.
func (c *consent) shown() []Question {
	list := []Question{}
	for _, q := range c.questions {
		if q.isShown() {
			list = append(list, q.Question)
		}
	}
	return list
}
