package agent

import (
	"encoding/binary"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// setModes gives a terminal the modes that the client's own has (RFC 4254, section 8): which
// character erases, whether what is typed is echoed, and the like. Modes that Linux does not
// know are left out.
func setModes(terminal *os.File, modes []byte) error {
	if len(modes) == 0 {
		return nil
	}
	raw, err := terminal.SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	err = raw.Control(func(fd uintptr) {
		settings, err := unix.IoctlGetTermios(int(fd), unix.TCGETS)
		if err != nil {
			failed = fmt.Errorf("ask a terminal for its modes: %w", err)
			return
		}
		apply(settings, modes)
		if err := unix.IoctlSetTermios(int(fd), unix.TCSETS, settings); err != nil {
			failed = fmt.Errorf("set a terminal's modes: %w", err)
		}
	})
	if err != nil {
		return err
	}
	return failed
}

// Modes that are characters, and those that are on or off, by their number.
var (
	characters = map[byte]int{1: unix.VINTR, 2: unix.VQUIT, 3: unix.VERASE, 4: unix.VKILL, 5: unix.VEOF, 6: unix.VEOL, 7: unix.VEOL2, 8: unix.VSTART, 9: unix.VSTOP, 10: unix.VSUSP, 12: unix.VREPRINT, 13: unix.VWERASE, 14: unix.VLNEXT, 18: unix.VDISCARD}
	inputs     = map[byte]uint32{30: unix.IGNPAR, 31: unix.PARMRK, 32: unix.INPCK, 33: unix.ISTRIP, 34: unix.INLCR, 35: unix.IGNCR, 36: unix.ICRNL, 37: unix.IUCLC, 38: unix.IXON, 39: unix.IXANY, 40: unix.IXOFF, 41: unix.IMAXBEL, 42: unix.IUTF8}
	locals     = map[byte]uint32{50: unix.ISIG, 51: unix.ICANON, 52: unix.XCASE, 53: unix.ECHO, 54: unix.ECHOE, 55: unix.ECHOK, 56: unix.ECHONL, 57: unix.NOFLSH, 58: unix.TOSTOP, 59: unix.IEXTEN, 60: unix.ECHOCTL, 61: unix.ECHOKE, 62: unix.PENDIN}
	outputs    = map[byte]uint32{70: unix.OPOST, 71: unix.OLCUC, 72: unix.ONLCR, 73: unix.OCRNL, 74: unix.ONOCR, 75: unix.ONLRET}
	controls   = map[byte]uint32{92: unix.PARENB, 93: unix.PARODD}
)

// Numbers of modes from which on they are not known to have one argument, and the character
// that stands for none.
const (
	lastKnown   = 160
	noCharacter = 255
)

func apply(t *unix.Termios, modes []byte) {
	for len(modes) >= 5 && modes[0] != 0 && modes[0] < lastKnown {
		number, value := modes[0], binary.BigEndian.Uint32(modes[1:])
		modes = modes[5:]
		if at, is := characters[number]; is {
			t.Cc[at] = byte(value)
			if value == noCharacter {
				t.Cc[at] = 0
			}
			continue
		}
		for _, of := range []struct {
			flags map[byte]uint32
			in    *uint32
		}{{inputs, &t.Iflag}, {locals, &t.Lflag}, {outputs, &t.Oflag}, {controls, &t.Cflag}} {
			flag, is := of.flags[number]
			switch {
			case is && value != 0:
				*of.in |= flag
			case is:
				*of.in &^= flag
			}
		}
	}
}
