package machine

import (
	"bytes"
	"cmp"
	"fmt"
	"net"
	"sync/atomic"
)

// mostAnswer bounds an answer of a machine's engine, in bytes. Whoever is root in a machine may
// answer in place of its engine, without end.
const mostAnswer = 32 << 20

// bounded is a stream to a machine's engine. Of what is answered to a request it gives no more
// than most, or mostAnswer where that is 0; a stream that both ends use as they like from then on is not bounded: what is
// first written to it asks for that.
type bounded struct {
	net.Conn
	most     int64        // bytes
	answered atomic.Int64 // to the last request
	begun    atomic.Bool
	free     atomic.Bool
}

// What asks an engine for such a stream stands in a request's head.
var (
	upgrade = []byte("\r\nUpgrade: ")
	headEnd = []byte("\r\n\r\n")
)

func (b *bounded) Write(p []byte) (int, error) {
	b.answered.Store(0)
	if !b.begun.Swap(true) {
		head, _, _ := bytes.Cut(p, headEnd)
		b.free.Store(bytes.Contains(head, upgrade))
	}
	return b.Conn.Write(p)
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.Conn.Read(p)
	if most := cmp.Or(b.most, mostAnswer); !b.free.Load() && b.answered.Add(int64(n)) > most {
		b.Close()
		return 0, fmt.Errorf("the engine of the machine answers with more than %d MB", most>>20)
	}
	return n, err
}

// CloseWrite tells the other end that nothing comes any more, where the stream can.
func (b *bounded) CloseWrite() error {
	if half, can := b.Conn.(interface{ CloseWrite() error }); can {
		return half.CloseWrite()
	}
	return nil
}
