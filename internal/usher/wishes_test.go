package usher

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"domicile/internal/agent/wire"
	"domicile/internal/client"
	"domicile/internal/connection"
	"domicile/internal/wish"
)

// cabin is the machine of a person, who is asked and answers.
type cabin struct {
	extra    []byte // of the channels of visits
	t        *testing.T
	h        *harbour
	u        *Usher
	did      chan string
	asked    chan Question
	said     chan string
	decided  string
	keys     agent.Agent
	stop     func()
	machines Machine
}

func newCabin(t *testing.T, workspaces ...string) *cabin {
	t.Helper()
	c := &cabin{t: t, h: newHarbour(t), did: make(chan string, 1000), asked: make(chan Question, 1000), said: make(chan string, 1000), decided: filepath.Join(t.TempDir(), "decisions.json"), keys: agent.NewKeyring()}
	does := func(what string) error { c.did <- what; return nil }
	c.machines = Machine{
		Browse: func(_ context.Context, address string) error { return does("browse " + address) },
		Edit:   func(_ context.Context, workspace, path string) error { return does("edit " + workspace + " " + path) },
		Show:   func(_ context.Context, address string) error { return does("show " + address) },
		Copy:   func(_ context.Context, text string) error { return does("copy " + text) },
		Tell:   func(_ context.Context, title, text string) error { return does("tell " + title + " " + text) },
		SignIn: func(_ context.Context, input string) (string, error) {
			return "username=skipper\npassword=anchor\n", does(strings.ReplaceAll(input, "\n", " "))
		},
		Keys: func(context.Context) (net.Conn, error) {
			near, far := net.Pipe()
			go func() { _ = agent.ServeAgent(c.keys, far) }()
			return near, nil
		},
		Ask: func(q Question) { c.asked <- q },
	}
	for _, name := range workspaces {
		c.h.runs(name)
	}
	c.begin()
	for range workspaces {
		<-c.h.lent
	}
	return c
}

func (c *cabin) begin() {
	u, err := New(Options{Service: c.h, Suffix: "domicile", Memory: filepath.Join(c.t.TempDir(), "ports.json"), Decisions: c.decided, Say: func(s string) { c.said <- s }, Machine: c.machines})
	require.NoError(c.t, err)
	c.u = u
	ctx, cancel := context.WithCancel(c.t.Context())
	over := make(chan error, 1)
	go func() { over <- u.Serve(ctx) }()
	c.stop = sync.OnceFunc(func() {
		cancel()
		require.NoError(c.t, <-over)
	})
	c.t.Cleanup(c.stop)
}

// visit opens what a program inside opens.
func (c *cabin) visit(workspace, kind string) (connection.Channel, error) {
	c.h.mu.Lock()
	at := c.h.met[workspace]
	c.h.mu.Unlock()
	channel, requests, err := at.OpenChannel(kind, c.extra)
	if err == nil {
		go connection.Discard(requests)
	}
	return channel, err
}

// wishes has a program of a workspace wish for something, and tells what it hears.
func (c *cabin) wishes(workspace string, w any) <-chan wish.Word {
	heard := make(chan wish.Word, 1)
	channel, err := c.visit(workspace, wire.WishVisit)
	require.NoError(c.t, err)
	go func() {
		defer channel.Close()
		_ = wish.Write(channel, w)
		last, err := wish.Words(channel, func(string) {})
		if err != nil {
			last.Error = err.Error()
		}
		heard <- last
	}()
	return heard
}

func (c *cabin) decide(d Decision) {
	c.t.Helper()
	require.NoError(c.t, c.u.Decide(d))
}

// The first time asks; what the person says counts for that workspace and kind, and outlives the usher.
func TestThePersonIsAsked(t *testing.T) {
	c := newCabin(t, "fares", "timetable")
	page := wish.Wish{Kind: wish.Open, Address: "https://quay.test/"}
	heard := c.wishes("fares", page)
	q := <-c.asked
	assert.Equal(t, "fares wants to open https://quay.test/ in your browser", q.Workspace+" "+q.Text)
	assert.Empty(t, c.did, "nothing is done before")
	assert.Len(t, c.u.Status().Questions, 1)
	c.decide(Decision{Workspace: "fares", Answer: Once, Number: q.Number})
	assert.Equal(t, wish.Word{Done: true}, <-heard)
	assert.Equal(t, "browse https://quay.test/", <-c.did)

	heard = c.wishes("fares", page)
	c.decide(Decision{Workspace: "fares", Answer: Later, Number: (<-c.asked).Number})
	assert.Equal(t, "not-allowed", (<-heard).Code)

	heard = c.wishes("fares", page)
	<-c.asked
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Always})
	assert.Empty(t, (<-heard).Error)
	assert.Equal(t, "browse https://quay.test/", <-c.did)
	assert.Empty(t, (<-c.wishes("fares", page)).Error, "it is not asked again")
	assert.Equal(t, "browse https://quay.test/", <-c.did)
	for _, other := range []wish.Wish{{Kind: wish.Copy, Text: "a"}} {
		heard := c.wishes("fares", other)
		c.decide(Decision{Workspace: "fares", Kind: other.Kind, Answer: Never, Number: (<-c.asked).Number})
		assert.Equal(t, "not-allowed", (<-heard).Code, "another kind is another question")
	}
	c.wishes("timetable", page)
	assert.Equal(t, "timetable", (<-c.asked).Workspace, "and so is another workspace")

	c.stop()
	info, err := os.Stat(c.decided)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077)
	c.begin()
	<-c.h.lent
	<-c.h.lent
	assert.Empty(t, (<-c.wishes("fares", page)).Error)
	assert.Equal(t, "browse https://quay.test/", <-c.did)
	assert.Equal(t, "not-allowed", (<-c.wishes("fares", wish.Wish{Kind: wish.Copy, Text: "a"})).Code)
	c.decide(Decision{Workspace: "fares", Answer: Forget})
	heard = c.wishes("fares", page)
	<-c.asked
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Each})
	heard2 := c.wishes("fares", page)
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Never})
	assert.Equal(t, "not-allowed", (<-heard).Code)
	assert.Equal(t, "not-allowed", (<-heard2).Code)
}

// One answer is for one request, whole: the others, that look alike or not, are asked about one after the other.
func TestOneAnswerIsForOneRequest(t *testing.T) {
	c := newCabin(t, "fares")
	long := "https://quay.test/" + strings.Repeat("a", 300)
	var heard []<-chan wish.Word
	for _, end := range []string{"1", "2", "3"} {
		heard = append(heard, c.wishes("fares", wish.Wish{Kind: wish.Open, Address: long + end}))
	}
	opened := map[string]bool{}
	for range heard {
		q := <-c.asked
		assert.Len(t, c.u.Status().Questions, 1, "one question of a kind at a time")
		assert.Contains(t, q.Text, "aaa", q.Text)
		c.decide(Decision{Workspace: "fares", Answer: Once, Number: q.Number})
		did := <-c.did
		assert.Contains(t, "browse "+q.Text, did[len("browse "):], "what was shown, to the last character")
		opened[did] = true
	}
	for _, h := range heard {
		assert.Empty(t, (<-h).Error)
	}
	assert.Len(t, opened, 3)
}

// What was decided does not count any more after somebody else was allowed to type: a program of theirs may be there.
func TestDecisionsEndWithAGuest(t *testing.T) {
	c := newCabin(t, "fares")
	c.extra = []byte(`{"epoch": "1.0"}`)
	page := wish.Wish{Kind: wish.Open, Address: "https://quay.test/"}
	heard := c.wishes("fares", page)
	<-c.asked
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Always})
	assert.Empty(t, (<-heard).Error)
	<-c.did
	c.decide(Decision{Workspace: "fares", Kind: wish.Copy, Answer: Never})
	c.extra = []byte(`{"epoch": "1.1"}`)
	heard = c.wishes("fares", page)
	q := <-c.asked
	assert.Empty(t, c.did)
	c.decide(Decision{Workspace: "fares", Answer: Later, Number: q.Number})
	assert.Equal(t, "not-allowed", (<-heard).Code)
	assert.Equal(t, "not-allowed", (<-c.wishes("fares", wish.Wish{Kind: wish.Copy, Text: "a"})).Code, "a refusal stays")
}

// Another workspace of a name has nothing of what was decided about the one before.
func TestAnotherWorkspaceOfThatName(t *testing.T) {
	c := newCabin(t, "fares")
	c.decide(Decision{Workspace: "fares", Kind: wish.Tell, Answer: Always})
	require.Empty(t, (<-c.wishes("fares", wish.Wish{Kind: wish.Tell, Text: "a"})).Error)
	c.h.set(func() { c.h.made = time.Now() })
	<-c.h.lent
	c.wishes("fares", wish.Wish{Kind: wish.Tell, Text: "a"})
	assert.Equal(t, wish.Tell, (<-c.asked).Kind)
}

func TestWhatIsDone(t *testing.T) {
	c := newCabin(t, "fares", "fares.mate")
	for _, k := range wish.Kinds {
		d := Decision{Workspace: "fares", Kind: k, Answer: Always}
		if k == wish.Git {
			d.Subject = "Git.Skerry.Test"
		}
		c.decide(d)
	}
	c.decide(Decision{Workspace: "fares.mate", Kind: wish.Show, Answer: Always})
	for _, x := range []struct {
		of   string
		wish wish.Wish
		did  string
	}{
		{"fares", wish.Wish{Kind: wish.Edit, Path: "/src/a b"}, "edit fares /src/a b"},
		{"fares", wish.Wish{Kind: wish.Show, Path: "/src/a b"}, "show sftp://fares.domicile/src/a%20b"},
		{"fares.mate", wish.Wish{Kind: wish.Show, Path: "/"}, "show sftp://mate.fares.domicile/"},
		{"fares", wish.Wish{Kind: wish.Copy, Text: "a\nb"}, "copy a\nb"},
		{"fares", wish.Wish{Kind: wish.Tell, Text: "the tide\x1bturns"}, "tell fares the tide turns"},
		{"fares", wish.Wish{Kind: wish.Git, Host: "git.skerry.test", Path: "a"}, "protocol=https host=git.skerry.test path=a  "},
	} {
		last := <-c.wishes(x.of, x.wish)
		require.Empty(t, last.Error)
		assert.Equal(t, x.did, <-c.did)
		if x.wish.Kind == wish.Git {
			assert.Equal(t, "anchor", last.Password)
		}
	}
	heard := c.wishes("fares", wish.Wish{Kind: wish.Git, Host: "other.test"})
	assert.Equal(t, "other.test", (<-c.asked).Subject, "a sign-in is for one host")
	assert.Contains(t, (<-c.wishes("fares", map[string]string{"kind": "open", "address": "file:///etc/passwd"})).Error, "no web address")
	assert.Contains(t, (<-c.wishes("fares", "tide")).Error, "cannot be read")
	c.decide(Decision{Workspace: "fares", Kind: wish.Git, Subject: "other.test", Answer: Never})
	assert.Empty(t, (<-heard).Password)
	c.machines.Browse = nil
	c.stop()
	c.begin()
	<-c.h.lent
	<-c.h.lent
	assert.Equal(t, "usher-cannot", (<-c.wishes("fares", wish.Wish{Kind: wish.Open, Address: "https://x/"})).Code, "as with -quiet")
}

// An address of the workspace itself leads to where its port is here, once the program listens.
func TestAPageOfTheWorkspace(t *testing.T) {
	c := newCabin(t, "fares", "timetable")
	port := free(t)
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Always})
	c.decide(Decision{Workspace: "timetable", Kind: wish.Open, Answer: Always})
	at := "http://127.0.0.1:" + strconv.Itoa(port) + "/deck?x=1"
	heard := c.wishes("fares", wish.Wish{Kind: wish.Open, Address: at})
	c.h.runs("fares", listens(port))
	assert.Empty(t, (<-heard).Error)
	assert.Equal(t, "browse http://localhost:"+strconv.Itoa(port)+"/deck?x=1", <-c.did)
	c.h.runs("timetable", listens(port))
	assert.Empty(t, (<-c.wishes("timetable", wish.Wish{Kind: wish.Open, Address: at})).Error)
	assert.Equal(t, "browse http://localhost:"+strconv.Itoa(port+step)+"/deck?x=1", <-c.did, "it is not the other one's")

	back := "https://id.test/?redirect_uri=" + strings.ReplaceAll(at, "?", "%3F")
	channel, err := c.visit("timetable", wire.WishVisit)
	require.NoError(t, err)
	require.NoError(t, wish.Write(channel, wish.Wish{Kind: wish.Open, Address: back}))
	var said []string
	_, err = wish.Words(channel, func(text string) { said = append(said, text) })
	require.NoError(t, err)
	assert.Contains(t, strings.Join(said, "\n"), "the page will not find its way back: port "+strconv.Itoa(port)+" of timetable is at")
	assert.Equal(t, "browse "+back, <-c.did)
	assert.Equal(t, "nobody-listens", (<-c.wishes("fares", wish.Wish{Kind: wish.Open, Address: "http://localhost:1/"})).Code)
}

// Whoever asks without end is not heard any more, until the person decides; what waits is bounded.
func TestWhoAsksWithoutEnd(t *testing.T) {
	c := newCabin(t, "fares", "timetable")
	var waits []<-chan wish.Word
	for i := range mostVisits {
		waits = append(waits, c.wishes("fares", wish.Wish{Kind: wish.Open, Address: "https://x/" + strconv.Itoa(i)}))
	}
	<-c.asked
	require.Eventually(t, func() bool { c.u.mu.Lock(); defer c.u.mu.Unlock(); return len(c.u.consent.questions) == mostVisits }, 5*time.Second, time.Millisecond)
	_, err := c.visit("fares", wire.WishVisit)
	assert.ErrorContains(t, err, "programs are heard already")
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Never})
	for _, w := range waits {
		assert.Equal(t, "not-allowed", (<-w).Code)
	}
	for range 10_000 { // until the connection is ended
		channel, err := c.visit("fares", wire.WishVisit)
		var refused *ssh.OpenChannelError
		if err != nil && !errors.As(err, &refused) {
			break
		}
		if err == nil {
			channel.Close()
		}
	}
	assert.Contains(t, <-c.said, "a program in it asks without end")
	require.Eventually(t, func() bool { return !c.u.Status().Places[0].Heard }, 5*time.Second, 5*time.Millisecond)
	assert.Contains(t, c.u.Status().Places[0].Reason, "asked without end")
	assert.True(t, c.u.Status().Places[1].Heard, "the other one is heard")
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Always})
	assert.Equal(t, "fares", <-c.h.lent)
}

// What is allowed always is done in bounds.
func TestAPageAfterTheOther(t *testing.T) {
	c := newCabin(t, "fares")
	c.decide(Decision{Workspace: "fares", Kind: wish.Open, Answer: Always})
	page := wish.Wish{Kind: wish.Open, Address: "https://x/"}
	for range mostDeeds {
		require.Empty(t, (<-c.wishes("fares", page)).Error)
	}
	assert.Equal(t, "slowed-down", (<-c.wishes("fares", page)).Code)
	assert.Len(t, c.did, mostDeeds)
}

// A program that is gone takes its question with it.
func TestAQuestionOfWhoIsGone(t *testing.T) {
	c := newCabin(t, "fares")
	channel, err := c.visit("fares", wire.WishVisit)
	require.NoError(t, err)
	require.NoError(t, wish.Write(channel, wish.Wish{Kind: wish.Tell, Text: "a"}))
	<-c.asked
	require.NoError(t, channel.CloseWrite())
	require.Eventually(t, func() bool { return len(c.u.Questions()) == 0 }, 5*time.Second, 5*time.Millisecond)
}

func TestAnAgentOfAnEarlierVersion(t *testing.T) {
	c := newCabin(t)
	c.h.older = true
	c.h.runs("fares")
	require.Eventually(t, func() bool {
		s := c.u.Status()
		return len(s.Places) == 1 && strings.Contains(s.Places[0].Reason, "earlier version: rebuild it")
	}, 5*time.Second, 5*time.Millisecond)
}

// Decisions come over the usher's own socket too; what is none is refused.
func TestDecisionsFromOutside(t *testing.T) {
	c := newCabin(t, "fares")
	s := httptest.NewServer(c.u)
	defer s.Close()
	for body, want := range map[string]string{
		`{"workspace":"fares","kind":"open","answer":"always"}`:                       "",
		`{"workspace":"fares","kind":"flags","answer":"always"}`:                      "nothing that a workspace asks for",
		`{"workspace":"fares","kind":"open","answer":"perhaps"}`:                      "no answer",
		`{"workspace":"fares","kind":"git","subject":"a b","answer":"always"}`:        "no host",
		`{"workspace":"fares","kind":"keys","subject":"deck","answer":"always"}`:      "no key's fingerprint",
		`{"workspace":"fares","kind":"open","subject":"https://x","answer":"always"}`: "for the whole workspace",
		`{"workspace":"fares","kind":"git","answer":"always"}`:                        "for one host",
		`{"workspace":"barge","kind":"open","answer":"always"}`:                       "no workspace",
		`{"workspace":"fares","answer":"forget"}`:                                     "",
		`{tide`: "invalid character",
	} {
		_, err := client.Answer[Status](http.Post(s.URL, "application/json", strings.NewReader(body)))
		if want == "" {
			assert.NoError(t, err, body)
		} else {
			assert.ErrorContains(t, err, want, body)
		}
	}
}
