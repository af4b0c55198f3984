// Command domicile-screenshots takes the pictures in docs/screenshots from a running demo:
// the console's pages in headless Chromium, and the output of commands as text on paper.
package main

import (
	"context"
	"flag"
	"fmt"
	"html"
	"log"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// step is an action that answers nothing.
type step = chromedp.Action[chromedp.Void]

// shot is one picture of a page.
type shot struct {
	file, path, wait string
	width, height    int64
	before           []step
}

func main() {
	server := flag.String("server", "http://127.0.0.1:4380", "the service")
	name := flag.String("name", "skipper", "the account")
	password := flag.String("password", "tide-and-timetable", "its password")
	git := flag.String("git", "http://127.0.0.1:4390", "the git host")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "only files whose name contains this")
	width := flag.Int64("width", 0, "the window's width, in place of each picture's own")
	commands := flag.Bool("commands", true, "take pictures of commands too")
	flag.Parse()
	if err := run(*server, *name, *password, *git, *out, *only, *commands, *width); err != nil {
		log.Fatal(err)
	}
}

func run(server, name, password, git, out, only string, commands bool, width int64) error {
	profile, err := os.MkdirTemp("", "screenshots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.UserDataDir(profile),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	if err := chromedp.Do(ctx); err != nil { // starts the browser, which lives as long as ctx
		return err
	}
	ctx, cancel = context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	if err := takeAll(ctx, signInPage(server), out, only, width); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(server), chromedp.WaitVisible(chromedp.CSS(`input[name=name]`)), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), name),
		chromedp.SendKeys(chromedp.CSS(`input[name=password]`), password), chromedp.Click(chromedp.CSS(`button`)), chromedp.WaitVisible(chromedp.CSS(`nav`))); err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	if err := takeAll(ctx, pages(server, git), out, only, width); err != nil {
		return err
	}
	if !commands {
		return nil
	}
	return takeCommands(ctx, git, out, only)
}

func signInPage(server string) []shot {
	return []shot{{file: "signin", path: server + "/", wait: `input[name=name]`, width: 1280, height: 800}}
}

func pages(server, git string) []shot {
	read := []step{chromedp.SendKeys(chromedp.CSS(`input[name=source]`), git+"/skerry/fares.git"), chromedp.Click(chromedp.CSS(`form button`)), chromedp.WaitVisible(chromedp.CSS(`figure`))}
	compared := []step{chromedp.ScrollIntoView(chromedp.CSS(`#beside`)), chromedp.Click(chromedp.CSS(`section[aria-labelledby=beside] button`)), chromedp.WaitVisible(chromedp.CSS(`section[aria-labelledby=beside] dl`))}
	typed := []step{chromedp.Sleep(time.Second), chromedp.KeyEvent("bin/sailings 2026-07-01\r"), chromedp.Sleep(time.Second)}
	return []shot{
		{file: "workspaces", path: server + "/", wait: `article`, width: 1280, height: 800},
		{file: "workspace", path: server + "/workspaces/timetable", wait: `[data-step]`, width: 1280, height: 800},
		{file: "workspace-services", path: server + "/workspaces/quayboard", wait: `#tasks`, width: 1280, height: 1000},
		{file: "workspace-upkeep", path: server + "/workspaces/timetable", wait: `#snapshots`, width: 1280, height: 800, before: compared},
		{file: "new", path: server + "/new", wait: `input[name=source]`, width: 1280, height: 1000, before: append(read, chromedp.WaitVisible(chromedp.CSS(`#plan + ol li, #plan ~ ol li`)))},
		{file: "sites", path: server + "/sites", wait: `article[aria-label=rented]`, width: 1280, height: 1000, before: []step{chromedp.ScrollIntoView(chromedp.CSS(`article[aria-label=rented]`))}},
		{file: "you", path: server + "/you", wait: `#tokens`, width: 1280, height: 800},
		{file: "clients", path: server + "/clients", wait: `section[aria-label]`, width: 1280, height: 800},
		{file: "team", path: server + "/team", wait: `#people`, width: 1280, height: 800},
		{file: "screen", path: server + "/workspaces/pierboard/screen", wait: `[data-screen-status=connected] ~ a`, width: 1280, height: 800, before: []step{chromedp.Sleep(2 * time.Second)}},
		{file: "guest", path: server + "/guest/timetable~skipper", wait: `#terminals ~ ul li`, width: 1280, height: 800}, // as somebody else
		{file: "terminal", path: server + "/workspaces/timetable/terminal", wait: `[data-terminal-status=connected]`, width: 1280, height: 800, before: typed},
	}
}

func takeAll(ctx context.Context, shots []shot, out, only string, width int64) error {
	for _, s := range shots {
		if !strings.Contains(s.file, only) {
			continue
		}
		if width > 0 {
			s.width = width
		}
		media := emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "light"}}}
		if _, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, media); err != nil {
			return err
		}
		steps := append([]step{chromedp.EmulateViewport(s.width, s.height), chromedp.Navigate(s.path), chromedp.WaitVisible(chromedp.CSS(s.wait))}, s.before...)
		if err := chromedp.Do(ctx, append(steps, chromedp.Sleep(500*time.Millisecond))...); err != nil {
			return fmt.Errorf("%s: %w", s.file, err)
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", s.file, err)
		}
		if err := os.WriteFile(filepath.Join(out, s.file+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// takeCommands runs commands as bin/domicile and shows what they print.
func takeCommands(ctx context.Context, git, out, only string) error {
	groups := []struct {
		file  string
		lines []string
	}{
		{"command-provision", []string{"domicile provision " + git + "/skerry/timetable.git -name morning", "domicile remove morning -yes"}},
		{"command-check", []string{"domicile check " + git + "/skerry/fares.git", "domicile check slips", "domicile templates", "domicile draft -show demo/repositories/tidesensor", "domicile check -effective demo/repositories/timetable"}},
		{"command-work", []string{"domicile plan " + git + "/skerry/fares.git", "domicile checks fares", "domicile compare timetable afloat", "domicile run -each 'features.tide.harbour=North Quay,Lamb Island' -site this-host " + git + "/skerry/fares.git -- tide"}},
		{"command-ways", []string{"domicile ports", "domicile usher allow timetable open", "domicile usher -status", "domicile address timetable", "domicile web timetable 8080 -for team", "domicile editors", "domicile invite timetable finn -may type -hours 2", "domicile guests timetable"}},
		{"command-upkeep", []string{"domicile snapshots", "domicile helper timetable", "domicile prepare", "domicile rebuild fares -foresee", "domicile author", "domicile secrets", "domicile stay timetable -for 8h", "domicile show timetable"}},
		{"command-list", []string{"domicile list", "domicile sites", "domicile run timetable -- bin/sailings 2026-07-01", "domicile keys", "domicile accounts", "domicile tokens", "domicile sign-ins"}},
	}
	slips, err := writeSlips()
	if err != nil {
		return err
	}
	defer os.RemoveAll(slips)
	for _, g := range groups {
		if !strings.Contains(g.file, only) {
			continue
		}
		var text strings.Builder
		for _, line := range g.lines {
			c := exec.CommandContext(ctx, "sh", "-c", strings.Replace(line, " slips", " "+slips, 1)+" 2>&1")
			c.Env = append(os.Environ(), "PATH=bin:"+os.Getenv("PATH"))
			printed, _ := c.CombinedOutput() // a failing command's output is what is wanted
			fmt.Fprintf(&text, "<b>$ %s</b>\n%s\n", html.EscapeString(line), html.EscapeString(string(printed)))
		}
		lines := strings.Count(text.String(), "\n")
		page := `<body style="margin:0;padding:24px;background:#fbf7ee;color:#2c2419;font:13px/1.35 'DejaVu Sans Mono',monospace"><pre style="font:inherit;white-space:pre-wrap;margin:0">` + text.String() + `</pre>`
		if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, max(800, int64(48+lines*18))), chromedp.Navigate("data:text/html;charset=utf-8,"+url.PathEscape(page))); err != nil {
			return fmt.Errorf("%s: %w", g.file, err)
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", g.file, err)
		}
		if err := os.WriteFile(filepath.Join(out, g.file+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// writeSlips writes a repository whose definition has the slips that people make.
func writeSlips() (string, error) {
	folder, err := os.MkdirTemp("", "slips-")
	if err != nil {
		return "", err
	}
	text := `{
  "image": "127.0.0.1:4391/skerry/base:12",
  "forwardPort": [8080],
  "portsAttributes": { "8080": { "onAutoForward": "opnBrowser" } },
  "hostRequirements": { "memory": "8 GB" },
  "postCreateCommand": "apt-get install postgresql"
}
`
	file := filepath.Join(folder, ".devcontainer.json")
	return folder, os.WriteFile(file, []byte(text), 0o644)
}
