package channel

import (
	"encoding/binary"
	"fmt"
	"io"
	"time"
)

// The parts of a frame's head that are looked at, as yamux's specification has them.
const (
	frameHead  = 12
	frameData  = 0 // the kind whose length is that of what follows
	framePing  = 2
	flagsAt    = 2
	lengthAt   = 8
	flagOpened = 1 // SYN: the other side opens a stream
)

// judged reads what a machine sends, and ends the session at what no machine of ours sends: a
// stream that it opens, which is kept until somebody takes it, and a ping, each of which is
// answered by a goroutine that waits until the answer is read. Whoever is root in a machine may
// send them without end.
type judged struct {
	r      io.Reader
	called bool      // over a connection that may be cut: each side may ask whether the other is there
	since  time.Time // when its pings were last counted anew
	pings  int
	head   []byte // of the frame that begins, as far as it has come
	left   uint32 // of what follows the last one
}

func (j *judged) Read(b []byte) (int, error) {
	n, err := j.r.Read(b)
	for rest := b[:n]; len(rest) > 0; {
		if j.left > 0 {
			k := min(j.left, uint32(len(rest)))
			j.left, rest = j.left-k, rest[k:]
			continue
		}
		k := min(frameHead-len(j.head), len(rest))
		j.head, rest = append(j.head, rest[:k]...), rest[k:]
		if len(j.head) < frameHead {
			continue
		}
		kind, flags := j.head[1], binary.BigEndian.Uint16(j.head[flagsAt:])
		if kind == framePing && j.called && j.mayPing() {
			j.head = j.head[:0]
			continue
		}
		if kind == framePing || flags&flagOpened != 0 {
			return 0, fmt.Errorf("a machine sends a frame of the kind %d with the flags %d, which is not its to send", kind, flags)
		}
		if kind == frameData {
			j.left = binary.BigEndian.Uint32(j.head[lengthAt:])
		}
		j.head = j.head[:0]
	}
	return n, err
}

// mayPing tells whether a machine may ask, or answer, whether the other side is there: a few times
// in what an honest one takes minutes for.
func (j *judged) mayPing() bool {
	now := time.Now()
	if now.Sub(j.since) > aliveEvery {
		j.since, j.pings = now, 0
	}
	j.pings++
	return j.pings <= mostPings
}

// mostPings is how many of them come in aliveEvery at most: a question and an answer, and some
// that a slow line has kept.
const mostPings = 8
