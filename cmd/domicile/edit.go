package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"
	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
	"domicile/internal/editor"
	"domicile/internal/fault"
	"domicile/internal/usher"
)

// inside are editors of Debian that run in a terminal, inside the workspace.
var inside = []string{"vim", "vi", "nano", "emacs", "micro", "joe", "ed"}

// withAddress are commands of this machine whose editors reach a workspace by the address that the
// usher keeps.
var withAddress = map[string]string{
	"emacs-here": "emacs /ssh:{address}:{path}",
	"vim-here":   "vim scp://{address}/{path}",
}

var editCommand = command{
	name: "edit", args: "NAME [PATH] [-with EDITOR]", summary: "Open a file or the folder of a workspace in your editor",
	example: "domicile edit timetable README.md\ndomicile edit timetable -with emacs-here",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		with := f.String("with", os.Getenv("DOMICILE_EDITOR"), "an editor of domicile editors (default: DOMICILE_EDITOR, or what is EDITOR inside)")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return wrongUse("a workspace's name is wanted, and a path if you like")
			}
			where := ""
			if len(args) == 2 {
				where = args[1]
			}
			return edit(ctx, t, c, args[0], where, *with)
		}
	},
}

func edit(ctx context.Context, t *terminal, c *client.Service, workspace, where, with string) error {
	if with == "" || slices.Contains(inside, with) {
		return editInside(ctx, t, c, workspace, where, with)
	}
	suffix := usualSuffix
	if h, err := hallOf("", usualSuffix); err == nil {
		if s, err := h.status(ctx); err == nil {
			suffix = s.Suffix
		}
	}
	at, err := placeOf(ctx, c, workspace, where, suffix)
	if err != nil {
		return err
	}
	e, err := editorHere(ctx, c, with)
	switch {
	case err != nil:
		return err
	case e.command != "":
		return runEditor(ctx, t, e.command, at)
	}
	link, err := editor.Link(e.link, at)
	if err != nil {
		return err
	}
	return openLink(ctx, link)
}

// placeOf is what an editor of this machine is told of a file or folder of a workspace.
func placeOf(ctx context.Context, c *client.Service, workspace, where, suffix string) (editor.Place, error) {
	ways, err := client.Answer[client.Ways](c.TryWays(ctx, workspace))
	if err != nil {
		return editor.Place{}, err
	}
	if !path.IsAbs(where) {
		where = path.Join(text(ways.Folder), where)
	}
	return editor.Place{Host: ways.Host, Port: ways.Port, User: ways.User, Workspace: workspace, Path: where, Address: usher.AddressOf(workspace, suffix)}, nil
}

// ownEditor is an editor of this machine: a command, or a link.
type ownEditor struct{ command, link string }

// editorHere finds an editor of this machine by its name. Without one, there may be one alone that the
// person has set.
func editorHere(ctx context.Context, c *client.Service, name string) (ownEditor, error) {
	own, err := loadEditors()
	if err != nil {
		return ownEditor{}, err
	}
	if line, known := own[name]; known {
		return ownEditor{command: line}, nil
	}
	if line, known := withAddress[name]; known {
		return ownEditor{command: line}, nil
	}
	links, err := client.Answer[[]client.Editor](c.ListEditors(ctx))
	if err != nil {
		return ownEditor{}, err
	}
	for _, e := range links {
		if e.Name == name {
			return ownEditor{link: e.Link}, nil
		}
	}
	switch {
	case name != "":
		return ownEditor{}, fault.New("no-editor", "domicile editors lists them", "there is no editor %q", name)
	case len(own) == 1 && len(links) == 0:
		for _, line := range own {
			return ownEditor{command: line}, nil
		}
	case len(own) == 0 && len(links) == 1:
		return ownEditor{link: links[0].Link}, nil
	}
	return ownEditor{}, fault.New("no-editor", "name one in DOMICILE_EDITOR where the usher is started; domicile editors lists them", "the usher knows no one editor of the person's machine")
}

// runEditor runs a command of this machine.
func runEditor(ctx context.Context, t *terminal, line string, at editor.Place) error {
	words, err := editor.Command(line, at)
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, words[0], words[1:]...)
	out, errOut := t.own()
	c.Stdin, c.Stdout, c.Stderr = t.in, out, errOut
	err = c.Run()
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		return exitStatus(ended.ExitCode())
	}
	if err != nil {
		return fault.Wrap(err, "no-editor", "install it, or choose another: domicile editors", "%s cannot be run", words[0])
	}
	return nil
}

// editInside runs an editor in a terminal inside.
func editInside(ctx context.Context, t *terminal, c *client.Service, workspace, where, with string) error {
	file, interactive := fileOf(t.in)
	if !interactive {
		return wrongUse("standard input is no terminal; choose an editor of this machine with -with")
	}
	program := `${EDITOR:-${VISUAL:-vi}}`
	if with != "" {
		program = with
	}
	if where == "" {
		where = "."
	}
	if strings.HasPrefix(where, "-") { // it is no flag of the editor's
		where = "./" + where
	}
	err := attachTo(ctx, t, c, file, &keyboard{from: file}, workspace, "", "exec "+program+" "+shellescape.Quote(where))
	var exit *ssh.ExitError
	switch {
	case errors.As(err, &exit) && exit.ExitStatus() == notFound:
		if with == "" {
			with = "editor, neither EDITOR nor vi,"
		}
		return fault.New("no-editor", "have the definition install one, or choose one of this machine: domicile editors", "there is no %s in %s", with, workspace)
	case errors.As(err, &exit):
		return exitStatus(exit.ExitStatus())
	}
	return err
}

// notFound is a shell's exit status where there is no such program.
const notFound = 127

var editorsCommand = command{
	name: "editors", args: "[set NAME LINK | command NAME COMMAND | remove NAME] [-json]", summary: "List, set and remove the editors that domicile edit and the console open",
	example: "domicile editors set files 'sftp://{user}@{host}:{port}{path}'\ndomicile editors command vim-there 'vim scp://{address}/{path}'",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case len(args) == 0:
				return listEditors(ctx, t, c, *asJSON)
			case args[0] == "set":
				if err := exactly(args[1:], "NAME", "LINK"); err != nil {
					return err
				}
				if _, err := client.Answer[struct{}](c.SetEditor(ctx, args[1], client.EditorLink{Link: args[2]})); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "%s is opened by a link, here and in the console.\n", args[1])
				return nil
			case args[0] == "command":
				if err := exactly(args[1:], "NAME", "COMMAND"); err != nil {
					return err
				}
				return setEditorCommand(t, args[1], args[2])
			case args[0] == "remove":
				if err := exactly(args[1:], "NAME"); err != nil {
					return err
				}
				return removeEditor(ctx, t, c, args[1])
			}
			return wrongUse("%q is none of set, command and remove", args[0])
		}
	},
}

// editorView is an editor as it is listed.
type editorView struct {
	Name  string `json:"name"`
	Opens string `json:"opens"`
	Of    string `json:"of"`
}

func listEditors(ctx context.Context, t *terminal, c *client.Service, asJSON bool) error {
	links, err := client.Answer[[]client.Editor](c.ListEditors(ctx))
	if err != nil {
		return err
	}
	own, err := loadEditors()
	if err != nil {
		return err
	}
	list := []editorView{}
	for _, e := range links {
		list = append(list, editorView{e.Name, e.Link, "your account"})
	}
	for _, name := range slices.Sorted(maps.Keys(own)) {
		list = append(list, editorView{name, own[name], "this machine"})
	}
	for _, name := range slices.Sorted(maps.Keys(withAddress)) {
		if _, has := own[name]; !has {
			list = append(list, editorView{name, withAddress[name], "ready, with the usher"})
		}
	}
	list = append(list, editorView{strings.Join(inside, ", "), "in a terminal inside, where it is installed", "ready"})
	if asJSON {
		return printJSON(t.out, list)
	}
	table := newTable(t.out)
	table.row("NAME", "OPENS", "OF")
	for _, e := range list {
		table.row(e.Name, e.Opens, e.Of)
	}
	table.flush()
	return nil
}

// editorsFile holds the commands. They are run at this machine, so they are kept at it: the service
// has no say in them.
func editorsFile() (string, error) {
	login, err := signInFile()
	return filepath.Join(filepath.Dir(login), "editors.json"), err
}

func loadEditors() (map[string]string, error) {
	file, err := editorsFile()
	if err != nil {
		return nil, err
	}
	list := map[string]string{}
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return list, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &list)
	}
	if err != nil {
		return nil, fmt.Errorf("read the editors of this machine, %s: %w", file, err)
	}
	return list, nil
}

func saveEditors(list map[string]string) error {
	file, err := editorsFile()
	if err != nil {
		return err
	}
	b, err := json.MarshalIndent(list, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fmt.Errorf("keep the editors of this machine: %w", err)
	}
	if err := os.WriteFile(file, b, 0o600); err != nil {
		return fmt.Errorf("keep the editors of this machine: %w", err)
	}
	return nil
}

func setEditorCommand(t *terminal, name, line string) error {
	if err := editor.CheckCommand(line); err != nil {
		return err
	}
	if slices.Contains(inside, name) {
		return wrongUse("%s is an editor inside; take another name", name)
	}
	list, err := loadEditors()
	if err != nil {
		return err
	}
	list[name] = line
	if err := saveEditors(list); err != nil {
		return err
	}
	fmt.Fprintf(t.out, "domicile edit NAME -with %s runs it at this machine.\n", name)
	return nil
}

func removeEditor(ctx context.Context, t *terminal, c *client.Service, name string) error {
	list, err := loadEditors()
	if err != nil {
		return err
	}
	if _, has := list[name]; has {
		delete(list, name)
		err = saveEditors(list)
	} else {
		_, err = client.Answer[struct{}](c.RemoveEditor(ctx, name))
	}
	if err == nil {
		fmt.Fprintf(t.out, "%s is forgotten.\n", name)
	}
	return err
}
