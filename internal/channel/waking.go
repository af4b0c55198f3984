package channel

import (
	"encoding/binary"
	"errors"
	"io"
	"time"
)

// Waking is what a machine is told whose memory was kept or copied: what it has of time and of
// chance is another's, or old. Its form is one that costs a machine little to read: each line of
// code that runs first in a clone is translated first, where machines run in software.
type Waking struct {
	Time     time.Time        // to the nanosecond
	Chance   [chanceSize]byte // fresh random bytes
	Hostname string           // at most 255 bytes; what is longer is cut
}

const (
	chanceSize = 64
	wakingForm = 1                      // the first byte: how the rest is to be read
	wakingHead = 1 + 8 + chanceSize + 1 // bytes: form, time, chance, the length of the name
)

// Bytes is a Waking as it is sent.
func (w Waking) Bytes() []byte {
	b := binary.BigEndian.AppendUint64([]byte{wakingForm}, uint64(w.Time.UnixNano()))
	b = append(b, w.Chance[:]...)
	name := w.Hostname[:min(len(w.Hostname), 255)]
	return append(append(b, byte(len(name))), name...)
}

// ReadWaking reads a Waking as it was sent, and no byte more.
func ReadWaking(r io.Reader) (w Waking, err error) {
	var head [wakingHead]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return w, err
	}
	if head[0] != wakingForm {
		return w, errors.New("a waking in a form that this machine does not know")
	}
	name := make([]byte, head[wakingHead-1])
	if _, err := io.ReadFull(r, name); err != nil {
		return w, err
	}
	w.Time = time.Unix(0, int64(binary.BigEndian.Uint64(head[1:])))
	copy(w.Chance[:], head[9:])
	w.Hostname = string(name)
	return w, nil
}
