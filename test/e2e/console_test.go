package e2e

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type step = chromedp.Action[chromedp.Void]

// page is a tab of a headless browser of its own.
type page struct {
	t   *testing.T
	ctx context.Context
}

func openBrowser(t *testing.T) *page {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.UserDataDir(t.TempDir()),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true))
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return &page{t, ctx}
}

// does carries out steps, all of them within half a minute.
func (p *page) does(steps ...step) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Text(chromedp.CSS("body")))
		require.NoError(p.t, err, "the page shows:\n%s", text)
	}
}

func (p *page) text(selector string) string {
	p.t.Helper()
	s, err := chromedp.Run(p.ctx, chromedp.Text(chromedp.CSS(selector)))
	require.NoError(p.t, err)
	return s
}

// shows waits until the page holds the text.
func (p *page) shows(text string) {
	p.t.Helper()
	eventually(p.t, 30*time.Second, "the page shows "+text, func() bool {
		s, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		return err == nil && strings.Contains(s, text)
	})
}

func see(selector string) step        { return chromedp.WaitVisible(chromedp.CSS(selector)) }
func click(selector string) step      { return chromedp.Click(chromedp.CSS(selector)) }
func fill(selector, text string) step { return chromedp.SendKeys(chromedp.CSS(selector), text) }

// button clicks the button or link that is called so.
func (p *page) button(name string) {
	p.t.Helper()
	eventually(p.t, 20*time.Second, "there is a button "+name, func() bool {
		ok, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`(() => { const b = [...document.querySelectorAll("button, a")].find(b => b.innerText.trim() === "`+name+`" && !b.disabled && b.offsetParent); b?.click(); return !!b; })()`))
		return err == nil && ok
	})
}

func (p *page) signIn(who *person) {
	p.t.Helper()
	p.does(chromedp.Navigate(world.Service.URL), see("input[name=name]"), fill("input[name=name]", who.name), fill("input[name=password]", who.password))
	p.button("Come in")
	p.does(see("nav"))
}

// accessible lets axe-core look at the page; it must find nothing.
func (p *page) accessible(where string) {
	p.t.Helper()
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err, "scripts/build installs it")
	found, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](string(axe)+`;axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"] }).then(r => r.violations.map(v => v.id + ": " + v.help + "\n  " + v.nodes.map(n => n.html.slice(0, 160)).join("\n  ")).join("\n"))`, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	assert.Empty(p.t, found, where)
}

func TestConsole(t *testing.T) {
	p := openBrowser(t)
	t.Run("a wrong password says so and keeps the name", func(t *testing.T) {
		p.t = t
		p.does(chromedp.Navigate(world.Service.URL), see("input[name=name]"), fill("input[name=name]", "skipper"), fill("input[name=password]", "guess-guess"))
		_, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`dispatchEvent(new Event("offline"))`))
		require.NoError(t, err, "a browser that believes to be offline reaches a service of this machine")
		p.button("Come in")
		p.shows("Name and password do not fit together")
		name, err := chromedp.Run(p.ctx, chromedp.Value(chromedp.CSS("input[name=name]")))
		require.NoError(t, err)
		assert.Equal(t, "skipper", name)
		p.accessible("sign-in")
	})
	p.t = t
	p.signIn(skipper)
	p.shows("Make the first one")
	p.accessible("no workspaces")
	t.Run("a definition with problems is shown with them at their lines", func(t *testing.T) {
		p.t = t
		source := publish(t, "slip", "{\n  \"image\": \"BASE\",\n  \"forwardPort\": [80],\n  \"remoteUser\": 7\n}\n", nil)
		p.does(chromedp.Navigate(world.Service.URL+"/new"), see("input[name=source]"), fill("input[name=source]", source))
		p.button("Read its definition")
		p.shows("did you mean forwardPorts?")
		assert.Contains(t, p.text("figure"), "remoteUser must be a string, not a number")
		p.accessible("new with problems")
	})
	t.Cleanup(func() { skipper.remove(t, "timetable") })
	t.Run("from New to a ready workspace", func(t *testing.T) {
		p.t = t
		p.does(chromedp.Navigate(world.Service.URL+"/new"), see("input[name=source]"), fill("input[name=source]", repository("timetable")))
		p.button("Read its definition")
		p.shows("Sailings")
		p.button("Make the workspace")
		p.does(see("[data-state=ready]"), see("[data-step=postStartCommand][data-step-state=done]"))
		p.does(click("[data-step=postCreateCommand] button"))
		p.shows("06:40  North Quay to Lamb Island, Eider")
		p.shows("ssh -p")
		p.accessible("workspace")
	})
	t.Run("changes of the command line appear without reloading", func(t *testing.T) {
		p.t = t
		require.Equal(t, 0, skipper.domicile(t, "stop", "timetable").status)
		p.does(see("[data-state=stopped]"))
		p.button("Start")
		p.does(see("[data-state=ready]"))
	})
	t.Run("a terminal", func(t *testing.T) {
		p.t = t
		p.button("Open a terminal")
		p.does(see("[data-terminal-status=connected]"))
		p.does(chromedp.KeyEvent("echo tide-$((20+22))\r"))
		p.shows("tide-42")
		// The page is left and come back to: what was printed is there again.
		p.does(chromedp.Navigate(world.Service.URL), see("article"), chromedp.Navigate(world.Service.URL+"/workspaces/timetable/terminal"), see("[data-terminal-status=connected]"))
		p.shows("tide-42")
		p.does(chromedp.KeyEvent("exit 5\r"))
		p.shows("ended with status 5")
	})
	t.Run("both themes and every place", func(t *testing.T) {
		p.t = t
		for _, scheme := range []string{"light", "dark"} {
			_, err := chromedp.Call(p.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
			require.NoError(t, err)
			for path, seen := range map[string]string{"/": "article", "/workspaces/timetable": "[data-step]", "/new": "input[name=source]", "/sites": "article", "/you": "#keys", "/team": "#people"} {
				p.does(chromedp.Navigate(world.Service.URL+path), see(seen))
				p.accessible(scheme + " " + path)
			}
			theme, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.documentElement.dataset.theme"))
			require.NoError(t, err)
			assert.Equal(t, map[string]string{"light": "daylight", "dark": "lamplight"}[scheme], theme)
		}
	})
	t.Run("nothing is cut off at phone width", func(t *testing.T) {
		p.t = t
		for _, path := range []string{"/", "/workspaces/timetable", "/new", "/sites", "/you", "/team"} {
			p.does(chromedp.EmulateViewport(390, 800), chromedp.Navigate(world.Service.URL+path), see("main h1, main h2"))
			wide, err := chromedp.Run(p.ctx, chromedp.Evaluate[int]("document.documentElement.scrollWidth"))
			require.NoError(t, err)
			assert.LessOrEqual(t, wide, 390, path)
		}
		p.does(chromedp.EmulateViewport(1280, 800))
	})
	t.Run("removing asks once and names what is lost", func(t *testing.T) {
		p.t = t
		p.does(chromedp.Navigate(world.Service.URL+"/workspaces/timetable"), see("[data-state=ready]"))
		p.button("Remove …")
		p.shows("What was not pushed is lost")
		p.button("Remove it")
		p.shows("Your workspaces will hang here")
	})
}

// picture keeps what the page shows, also at a phone's width, where DOMICILE_PICTURES names a folder for somebody to look at.
func (p *page) picture(name string) {
	p.t.Helper()
	folder := os.Getenv("DOMICILE_PICTURES")
	if folder == "" {
		return
	}
	for suffix, width := range map[string]int64{"-phone": 390, "": 1280} {
		p.does(chromedp.EmulateViewport(width, 800))
		png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		require.NoError(p.t, err)
		require.NoError(p.t, os.WriteFile(filepath.Join(folder, name+suffix+".png"), png, 0o644))
	}
	p.does(chromedp.EmulateViewport(1280, 800))
}
