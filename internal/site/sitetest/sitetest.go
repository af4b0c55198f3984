// Package sitetest is the suite that every kind of site passes: what package site
// promises, tried against the real thing.
package sitetest

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/site"
)

// Place is a site to be tried.
type Place struct {
	Site site.Site
	// Image is one that the site can bring, and that has a user crew (1000) and sh.
	Image string
	// Staying is an image whose own command stays; that of Image ends at once.
	Staying string
	// Missing is an image that is nowhere.
	Missing string
	// Key is what the site's agents know the service by.
	Key ssh.Signer

	can site.Abilities
}

// Run tries all that package site promises of every site, and of the abilities that this one
// has.
func Run(t *testing.T, p Place) {
	t.Run("examine", p.examine)
	p.can = site.Can(p.Site)
	t.Run("image", p.image)
	t.Run("build", p.build)
	t.Run("instance", p.instance)
	t.Run("own command", p.ownCommand)
	for name, ability := range map[string]struct {
		has  bool
		test func(*testing.T)
	}{
		"services":  {p.can.Beside != nil && p.can.Overseer != nil, p.services},
		"set aside": {p.can.Aside != nil, p.aside},
		"snapshots": {p.can.Keeper != nil && p.can.Sweeper != nil, p.snapshots},
		"helpers":   {p.can.Joiner != nil, p.helpers},
		"doors":     {p.can.Doors != nil, p.door},
	} {
		if ability.has {
			t.Run(name, ability.test)
		}
	}
	t.Run("nothing there", p.nothing)
}

func (p Place) examine(t *testing.T) {
	f, err := p.Site.Examine(t.Context())
	require.NoError(t, err)
	assert.Positive(t, f.Processors)
	assert.Positive(t, f.MemoryBytes)
	assert.NotEmpty(t, f.Engine)
	assert.NotEmpty(t, f.System)
}

func (p Place) image(t *testing.T) {
	told := 0
	first, err := p.Site.EnsureImage(t.Context(), pulled(t, p.Image), func(string) { told++ })
	require.NoError(t, err)
	assert.NotEmpty(t, first.ID)
	again, err := p.Site.EnsureImage(t.Context(), pulled(t, p.Image), func(string) { t.Error("nothing is brought twice") })
	require.NoError(t, err)
	assert.False(t, again.Fetched)
	assert.Equal(t, first.ID, again.ID)
	_, err = p.Site.EnsureImage(t.Context(), pulled(t, p.Missing), func(string) {})
	assert.Equal(t, "image-not-found", fault.Code(err), "%v", err)
	assert.False(t, fault.IsTransient(err))
}

func (p Place) container(digest string) plan.Container {
	return plan.Container{Image: p.Image, Hostname: "deck", Override: true, SourceTarget: "/src/deck", Env: map[string]string{"TIDE": "flood"}, Digest: digest}
}

// make makes an instance and removes it at the end.
func (p Place) make(t *testing.T, id string, c plan.Container) {
	t.Helper()
	t.Cleanup(func() {
		ctx := context.WithoutCancel(t.Context())
		assert.NoError(t, p.Site.Remove(ctx, id))
		assert.NoError(t, p.Site.Remove(ctx, id), "what is not there is no error")
		_, found, err := p.Site.Find(ctx, id)
		assert.NoError(t, err)
		assert.False(t, found)
	})
	made, err := p.Site.EnsureVolume(t.Context(), id)
	require.NoError(t, err)
	assert.True(t, made)
	require.NoError(t, p.Site.EnsureInstance(t.Context(), id, judged(t, c)))
}

func (p Place) instance(t *testing.T) {
	ctx, id := t.Context(), "w1"
	p.make(t, id, p.container("one"))
	made, err := p.Site.EnsureVolume(ctx, id)
	require.NoError(t, err)
	assert.False(t, made, "it is there")
	i, found, err := p.Site.Find(ctx, id)
	require.NoError(t, err)
	require.True(t, found)
	assert.Equal(t, site.Instance{Workspace: id, Digest: "one"}, i)
	for range 2 { // one that runs stays as it is
		require.NoError(t, p.Site.Start(ctx, id))
	}
	assert.Equal(t, "flood\ndeck\n", p.inside(t, id, "echo $TIDE; hostname; echo kept > /src/deck/note; echo lost > /tmp/note"))
	require.NoError(t, p.Site.EnsureInstance(ctx, id, judged(t, p.container("one"))))
	assert.Equal(t, "lost\n", p.inside(t, id, "cat /tmp/note"), "with the same digest it is the same")

	require.NoError(t, p.Site.Stop(ctx, id, 5*time.Second, true))
	i, _, err = p.Site.Find(ctx, id)
	require.NoError(t, err)
	assert.False(t, i.Running)
	_, err = p.Site.Connect(ctx, id)
	assert.True(t, err == nil || fault.IsTransient(err))
	require.NoError(t, p.Site.Start(ctx, id))
	assert.Equal(t, "kept\nlost\n", p.inside(t, id, "cat /src/deck/note /tmp/note"), "stopping keeps all files")

	require.NoError(t, p.Site.EnsureInstance(ctx, id, judged(t, p.container("two"))))
	require.NoError(t, p.Site.Start(ctx, id))
	assert.Equal(t, "kept\nnone\n", p.inside(t, id, "cat /src/deck/note; cat /tmp/note 2>/dev/null || echo none"), "another digest is another instance, with the same source")
	list, err := p.Site.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, []site.Instance{{Workspace: id, Running: true, Digest: "two"}}, list)
}

// ownCommand keeps the image's own command, with the agent beside it.
func (p Place) ownCommand(t *testing.T) {
	c := p.container("own")
	c.Override = false
	p.make(t, "w2", c)
	assert.Equal(t, "workspace-ended", fault.Code(p.Site.Start(t.Context(), "w2")))
	_, err := p.Site.EnsureImage(t.Context(), pulled(t, p.Staying), func(string) {})
	require.NoError(t, err)
	c.Image, c.Digest = p.Staying, "staying"
	require.NoError(t, p.Site.EnsureInstance(t.Context(), "w2", judged(t, c)))
	for range 2 {
		require.NoError(t, p.Site.Start(t.Context(), "w2"))
		assert.Equal(t, "sleep infinity \n", p.inside(t, "w2", "tr '\\0' ' ' < /proc/1/cmdline; echo"))
	}
}

func (p Place) nothing(t *testing.T) {
	ctx := t.Context()
	_, found, err := p.Site.Find(ctx, "w404")
	require.NoError(t, err)
	assert.False(t, found)
	assert.NoError(t, p.Site.Stop(ctx, "w404", time.Second, true))
	assert.Error(t, p.Site.Start(ctx, "w404"))
	_, err = p.Site.Connect(ctx, "w404")
	assert.True(t, fault.IsTransient(err), "%v", err)
	for _, bad := range []string{"", "../w1", "."} {
		assert.Error(t, p.Site.Remove(ctx, bad), "%q is no id", bad)
	}
}

// aside keeps an instance while another takes its place, and puts it back.
func (p Place) aside(t *testing.T) {
	ctx, id := t.Context(), "w3"
	p.make(t, id, p.container("one"))
	require.NoError(t, p.Site.Start(ctx, id))
	p.inside(t, id, "echo first > /tmp/note; echo typed > /root/.history")
	aside, err := p.can.Aside.SetAside(ctx, id, map[string]string{"": "one"})
	require.NoError(t, err)
	assert.False(t, aside, "it is as it is wanted")
	for range 2 { // the second is one after a crash
		aside, err = p.can.Aside.SetAside(ctx, id, map[string]string{"": "two"})
		require.NoError(t, err)
		assert.True(t, aside)
	}
	_, found, err := p.Site.Find(ctx, id)
	require.NoError(t, err)
	assert.False(t, found)
	list, err := p.Site.List(ctx)
	require.NoError(t, err)
	assert.Empty(t, list, "what is aside is no instance")
	require.NoError(t, p.Site.EnsureInstance(ctx, id, judged(t, p.container("two"))))
	require.NoError(t, p.can.Aside.Carry(ctx, id, []string{"/root/.history", "/root/.nothing"}, 0))
	require.NoError(t, p.Site.Start(ctx, id))
	assert.Equal(t, "typed\nnone\n", p.inside(t, id, "cat /root/.history; cat /tmp/note 2>/dev/null || echo none"))
	for range 2 {
		require.NoError(t, p.can.Aside.PutBack(ctx, id, nil))
	}
	assert.Equal(t, "first\n", p.inside(t, id, "cat /tmp/note"))
	_, err = p.can.Aside.SetAside(ctx, id, map[string]string{"": "two"})
	require.NoError(t, err)
	require.NoError(t, p.Site.EnsureInstance(ctx, id, judged(t, p.container("two"))))
	for range 2 {
		require.NoError(t, p.can.Aside.DropAside(ctx, id))
	}
	i, found, err := p.Site.Find(ctx, id)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "two", i.Digest)
}

// snapshots keeps files and source of an instance, also of one that is stopped, and begins
// another with them.
func (p Place) snapshots(t *testing.T) {
	ctx, id := t.Context(), "w4"
	p.make(t, id, p.container("one"))
	require.NoError(t, p.Site.Start(ctx, id))
	p.inside(t, id, "mkdir -p /src/deck/deep; echo kept > /src/deck/deep/note; chown -R 1000:1000 /src/deck; ln /src/deck/deep/note /src/deck/hard; echo home > /root/note")
	var saved site.Saved
	var err error
	for range 2 { // again, as after a crash
		saved, err = p.can.Keeper.Save(ctx, id, "s1", func(string) {})
		require.NoError(t, err)
	}
	t.Cleanup(func() { assert.NoError(t, p.can.Keeper.RemoveSaved(context.WithoutCancel(ctx), "s1")) })
	assert.Positive(t, saved.Bytes)
	p.inside(t, id, "echo later > /src/deck/deep/note; rm /root/note")
	c := p.container("one")
	c.Saved = saved.Images[""]
	p.make(t, "w5", c)
	require.NoError(t, p.Site.Start(ctx, "w5"))
	assert.Equal(t, "kept home 1000 2\n", p.inside(t, "w5", "echo $(cat /src/deck/deep/note /root/note; stat -c '%u %h' /src/deck/hard)"))
	assert.Equal(t, "later\n", p.inside(t, id, "cat /src/deck/deep/note"), "the other goes on")
	left, err := p.can.Sweeper.Leftovers(ctx, func(context.Context) ([]string, error) { return []string{id, "w5", "s1"}, nil })
	require.NoError(t, err)
	for _, l := range left {
		assert.NotContains(t, l.Name, "s1-", "a known snapshot is no leftover")
	}
	require.NoError(t, p.can.Keeper.RemoveSaved(ctx, "s1"))
	has, err := p.Site.HasImage(ctx, made(t, saved.Images[""]))
	require.NoError(t, err)
	assert.False(t, has)
	assert.Equal(t, "kept\n", p.inside(t, "w5", "cat /src/deck/deep/note"), "who began with it stays")
}

// helpers are reached by name, and see the source where it is shared.
func (p Place) helpers(t *testing.T) {
	ctx := t.Context()
	p.make(t, "w6", p.container("one"))
	require.NoError(t, p.Site.Start(ctx, "w6"))
	c := p.container("mate")
	c.Hostname, c.HelperOf, c.SourceOf = "mate", "w6", "w6"
	t.Cleanup(func() { assert.NoError(t, p.Site.Remove(context.WithoutCancel(ctx), "w7")) })
	require.NoError(t, p.Site.EnsureInstance(ctx, "w7", judged(t, c)))
	require.NoError(t, p.Site.Start(ctx, "w7"))
	for range 2 {
		addresses, err := p.can.Joiner.Join(ctx, "w6", "deck", map[string]string{"w7": "mate", "w404": "nobody"})
		require.NoError(t, err)
		p.linked(t, "w6", func(link *agentlink.Link) { require.NoError(t, link.Helpers(ctx, []string{"mate"}, addresses, "")) })
	}
	assert.Equal(t, "here\n", p.inside(t, "w7", "echo here > /src/deck/shared; cat /src/deck/shared"))
	assert.Equal(t, "here\nmate\n", p.inside(t, "w6", "cat /src/deck/shared; getent hosts mate > /dev/null && echo mate"))
	assert.Equal(t, "deck\n", p.inside(t, "w7", "getent hosts deck > /dev/null && echo deck"))
	assert.Equal(t, "SSH-2.0\n", p.inside(t, "w6", `python3 -c "import socket; print(socket.create_connection(('mate', 4322), 5).recv(7).decode())"`), "its agent serves the workspace's network")
}

// inside runs a shell's line in an instance through its agent.
func (p Place) inside(t *testing.T, id, line string) string {
	t.Helper()
	var out bytes.Buffer
	p.linked(t, id, func(link *agentlink.Link) {
		require.NoError(t, link.Task(t.Context(), wire.TaskRequest{Key: line, Shell: line}, &out))
	})
	return out.String()
}

// linked does something with a link to an instance's agent, which runs programs as root.
func (p Place) linked(t *testing.T, id string, do func(*agentlink.Link)) {
	t.Helper()
	link := p.reached(t, id)
	defer link.Quiet().Close()
	answer, err := link.Configure(t.Context(), wire.Session{User: "root", Folder: "/", Probe: "none"})
	require.NoError(t, err)
	assert.Equal(t, 0, answer.UID)
	do(link)
}

// subject owns what these tests make.
func subject(images ...string) judge.Subject {
	return judge.Subject{Account: 1, Parent: "w6", Images: images}
}

func judged(t *testing.T, c plan.Container) plan.Judged[plan.Container] {
	t.Helper()
	out, err := plan.JudgeContainer(c, subject(c.Saved))
	require.NoError(t, err)
	return out
}

// ctxOf outlives the test, for what is cleaned up behind it.
func ctxOf(t *testing.T) context.Context { return context.WithoutCancel(t.Context()) }

func pulled(t *testing.T, name string) judge.Image {
	t.Helper()
	i, err := plan.JudgeImage(name, subject())
	require.NoError(t, err)
	return i
}

func made(t *testing.T, name string) judge.Image {
	t.Helper()
	i, err := plan.JudgeImage(name, subject(name))
	require.NoError(t, err)
	return i
}
