package main

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"unicode/utf16"
)

// desktopOf is what programs a system's desktops have. It is chosen by the system's name, so that what is
// said to each is tested on one.
type desktopOf struct {
	// open opens an address; the address follows.
	open []string
	// clipboards put standard input on the clipboard: the first that is there.
	clipboards []clipboard
	// notice shows a notice; title and text follow. Empty: none is shown.
	notice []string
	// plain tells that a notice's text is taken as it is, without marks.
	plain bool
	// screen tells whether there is one to show something on.
	screen func() bool
}

// clipboard is a program, the variable without which it cannot work (empty: none), and how it takes text.
type clipboard struct {
	variable string
	command  []string
	encode   func(string) string
}

func always() bool { return true }

// desktopsOf are by what runtime.GOOS says; systems that are not among them have what Linux has.
var desktopsOf = map[string]desktopOf{
	"linux": {
		open: []string{"xdg-open"},
		clipboards: []clipboard{
			{"WAYLAND_DISPLAY", []string{"wl-copy"}, asIs},
			{"DISPLAY", []string{"xclip", "-selection", "clipboard"}, asIs},
			{"DISPLAY", []string{"xsel", "--clipboard", "--input"}, asIs},
		},
		notice: []string{"notify-send", "--app-name=Domicile", "--"},
		screen: func() bool { return os.Getenv("WAYLAND_DISPLAY") != "" || os.Getenv("DISPLAY") != "" },
	},
	"darwin": {
		open:       []string{"open"},
		clipboards: []clipboard{{"", []string{"pbcopy"}, asIs}},
		// What is said comes as arguments: no text becomes part of the script.
		notice: []string{"osascript", "-e", "on run words", "-e", "display notification (item 2 of words) with title (item 1 of words)", "-e", "end run"},
		plain:  true,
		screen: always,
	},
	"windows": {
		open:       []string{"rundll32", "url.dll,FileProtocolHandler"},
		clipboards: []clipboard{{"", []string{"clip"}, asUTF16}},
		screen:     always,
	},
}

func desktopFor(system string) desktopOf {
	if d, known := desktopsOf[system]; known {
		return d
	}
	return desktopsOf["linux"]
}

func asIs(text string) string { return text }

// asUTF16 is a text in UTF-16, little end first, with its mark at the beginning: clip takes other text for
// that of the console's old code page.
func asUTF16(text string) string {
	var b bytes.Buffer
	_ = binary.Write(&b, binary.LittleEndian, append([]uint16{0xfeff}, utf16.Encode([]rune(text))...)) // into memory
	return b.String()
}

// clipboardProgram is the first of a desktop's that can work here.
func (d desktopOf) clipboardProgram() (clipboard, bool) {
	for _, c := range d.clipboards {
		if _, err := exec.LookPath(c.command[0]); err == nil && (c.variable == "" || os.Getenv(c.variable) != "") {
			return c, true
		}
	}
	return clipboard{}, false
}
