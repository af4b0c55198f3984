package connection

import (
	"io"
	"sync"
)

const (
	smallChunk = 4 << 10
	largeChunk = 64 << 10
)

var chunks = map[int]*sync.Pool{
	smallChunk: {New: func() any { return new([smallChunk]byte) }},
	largeChunk: {New: func() any { return new([largeChunk]byte) }},
}

// chunk holds some of what has come; what is between from and to is to be read.
type chunk struct {
	b        []byte
	from, to int
	next     *chunk
}

func newChunk(n int) *chunk {
	if n <= smallChunk {
		return &chunk{b: chunks[smallChunk].Get().(*[smallChunk]byte)[:]}
	}
	return &chunk{b: chunks[largeChunk].Get().(*[largeChunk]byte)[:]}
}

func (c *chunk) giveBack() {
	if len(c.b) == smallChunk {
		chunks[smallChunk].Put((*[smallChunk]byte)(c.b))
	} else {
		chunks[largeChunk].Put((*[largeChunk]byte)(c.b))
	}
}

// inbox keeps what has come of one stream until it is read. While nothing is in it, it holds no memory.
type inbox struct {
	mu       sync.Mutex
	come     sync.Cond
	reading  sync.Mutex // by one at a time
	head     *chunk
	tail     *chunk
	filling  bool // the tail is being read into, so it stays
	over     bool // nothing more comes
	unwanted bool // nobody reads
}

func (b *inbox) init() { b.come.L = &b.mu }

// fill takes n bytes; it is called by one alone.
func (b *inbox) fill(from io.Reader, n int) error {
	for n > 0 {
		to := b.room(n)
		if to == nil {
			_, err := io.CopyN(io.Discard, from, int64(n))
			return err
		}
		k, err := io.ReadFull(from, to)
		b.mu.Lock()
		b.tail.to += k
		b.filling = false
		b.tidy()
		b.mu.Unlock()
		b.come.Broadcast()
		if err != nil {
			return err
		}
		n -= k
	}
	return nil
}

// room gives where the next bytes go, of n; nil: nobody wants them.
func (b *inbox) room(n int) []byte {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.unwanted || b.over {
		return nil
	}
	if b.tail == nil || b.tail.to == len(b.tail.b) {
		c := newChunk(n)
		if b.tail == nil {
			b.head = c
		} else {
			b.tail.next = c
		}
		b.tail = c
	}
	b.filling = true
	return b.tail.b[b.tail.to:min(b.tail.to+n, len(b.tail.b))]
}

// tidy gives back what is read. The lock is held.
func (b *inbox) tidy() {
	for b.head != nil && b.head.from == b.head.to && (b.head != b.tail || !b.filling) {
		read := b.head
		if b.head = read.next; b.head == nil {
			b.tail = nil
		}
		read.giveBack()
	}
}

// next waits for something to read. It is read before the next call, and given up by it.
func (b *inbox) next() ([]byte, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for {
		if b.unwanted {
			return nil, io.EOF
		}
		b.tidy()
		if b.head != nil && b.head.from < b.head.to {
			return b.head.b[b.head.from:b.head.to], nil
		}
		if b.over {
			return nil, io.EOF
		}
		b.come.Wait()
	}
}

// took notes that n bytes of what next gave are read.
func (b *inbox) took(n int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.head.from += n
	b.tidy()
}

// end says that nothing more comes.
func (b *inbox) end() {
	b.mu.Lock()
	b.over = true
	b.mu.Unlock()
	b.come.Broadcast()
}

// refuse says that nobody reads any more.
func (b *inbox) refuse() {
	b.mu.Lock()
	b.unwanted = true
	b.mu.Unlock()
	b.come.Broadcast()
}
