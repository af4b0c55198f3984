package longstream

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ferry makes connections between two ends, and sinks them.
type ferry struct {
	mu    sync.Mutex
	shelf Shelf
	far   chan *Stream
	now   []net.Conn
	shut  error
	made  int
}

// The owners of the tests.
var skipper, finn = Owner{7, 1}, Owner{8, 1}

func newFerry() *ferry { return &ferry{far: make(chan *Stream, 1)} }

var errShut = errors.New("the harbour is shut")

func (f *ferry) open(context.Context) (net.Conn, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.shut != nil {
		return nil, f.shut
	}
	s, err := f.shelf.Take("one", skipper, f.made == 0)
	if err != nil {
		return nil, err
	}
	if f.made++; f.made == 1 {
		f.far <- s
	}
	near, far := net.Pipe()
	f.now = []net.Conn{near, far}
	go func() {
		_ = s.Carry(far)
		f.shelf.Put("one")
	}()
	return near, nil
}

// sink breaks the connection that there is.
func (f *ferry) sink() {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, c := range f.now {
		c.Close()
	}
}

func (f *ferry) close(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.shut = err
}

func goneIsFinal(err error) bool { return errors.Is(err, ErrGone) }

// However often the connection breaks, in whatever moment, what was written on either side is read on
// the other, whole and in order.
func TestNoByteIsLostOrDoubled(t *testing.T) {
	made := 0
	for seed := range uint64(20) {
		synctest.Test(t, func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 1))
			f := newFerry()
			near, err := Dial(t.Context(), f.open, goneIsFinal)
			require.NoError(t, err)
			far := <-f.far
			cargo := make([]byte, 3<<20)
			for i := range cargo {
				cargo[i] = byte(r.Uint32())
			}
			var all sync.WaitGroup
			ship := func(from, to *Stream, size int) {
				all.Go(func() {
					for sent := 0; sent < len(cargo); sent += size {
						if _, err := from.Write(cargo[sent:min(len(cargo), sent+size)]); err != nil {
							t.Errorf("write: %v", err)
							return
						}
						if sent%(size*8) == 0 {
							<-time.After(time.Millisecond)
						}
					}
				})
				all.Go(func() {
					got := make([]byte, len(cargo))
					_, err := io.ReadFull(to, got)
					assert.NoError(t, err)
					assert.True(t, bytes.Equal(cargo, got))
				})
			}
			ship(near, far, 4096)
			ship(far, near, 9999)
			stop := make(chan struct{})
			go func() {
				for {
					select {
					case <-stop:
						return
					case <-time.After(time.Duration(1+r.IntN(30)) * time.Millisecond):
						f.sink()
					}
				}
			}()
			all.Wait()
			close(stop)
			require.NoError(t, near.Close())
			_, err = far.Read(make([]byte, 1))
			assert.ErrorIs(t, err, io.EOF)
			made += f.made
			_ = far.Close()
			synctest.Wait()
			<-time.After(time.Second)
			assert.Empty(t, f.shelf.kept, "what is over is not kept")
		})
	}
	assert.Greater(t, made, 100, "connections were broken")
}

// What was written before the end arrives before it, also over a connection that comes later.
func TestTheEndComesLast(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := newFerry()
		near, err := Dial(t.Context(), f.open, goneIsFinal)
		require.NoError(t, err)
		far := <-f.far
		synctest.Wait()
		f.close(errShut)
		f.sink()
		_, err = near.Write([]byte("the last boat"))
		require.NoError(t, err)
		require.NoError(t, near.Close())
		<-time.After(time.Minute)
		f.close(nil)
		b, err := io.ReadAll(far)
		require.NoError(t, err)
		assert.Equal(t, "the last boat", string(b))
		_ = far.Close()
	})
}

// Where both sides end at the same moment, neither waits for the other.
func TestBothEndAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := newFerry()
		near, err := Dial(t.Context(), f.open, goneIsFinal)
		require.NoError(t, err)
		far := <-f.far
		synctest.Wait()
		begun := time.Now()
		near.Close()
		far.Close()
		synctest.Wait()
		assert.True(t, near.Over())
		assert.Empty(t, f.shelf.kept)
		assert.Zero(t, time.Since(begun))
	})
}

// A stream that nothing carries any more is given up on both sides, in time.
func TestAStreamIsGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := newFerry()
		near, err := Dial(t.Context(), f.open, goneIsFinal)
		require.NoError(t, err)
		far := <-f.far
		synctest.Wait()
		begun := time.Now()
		f.close(errShut)
		f.sink()
		_, err = near.Read(make([]byte, 1))
		assert.ErrorIs(t, err, ErrLost)
		assert.ErrorIs(t, err, errShut)
		assert.LessOrEqual(t, time.Since(begun), Patience)
		_, err = far.Read(make([]byte, 1))
		assert.ErrorIs(t, err, ErrLost)
		assert.Empty(t, f.shelf.kept)
		_, err = far.Write([]byte("x"))
		assert.ErrorIs(t, err, ErrLost)
	})
}

// A connection that is silent, such as that of a machine that slept, is taken for dead.
func TestASilentConnection(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New()
		near, far := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		begun := time.Now()
		assert.Error(t, s.Carry(near))
		assert.Equal(t, aliveLimit, time.Since(begun))
		far.Close()
	})
	synctest.Test(t, func(t *testing.T) { // and one at which nothing happens for an hour is not
		f := newFerry()
		near, err := Dial(t.Context(), f.open, goneIsFinal)
		require.NoError(t, err)
		far := <-f.far
		<-time.After(time.Hour)
		_, err = near.Write([]byte("still here"))
		require.NoError(t, err)
		b := make([]byte, 10)
		_, err = io.ReadFull(far, b)
		require.NoError(t, err)
		assert.Equal(t, 1, f.made)
		near.Close()
		far.Close()
	})
}

func TestEachStreamIsItsOwners(t *testing.T) {
	var s Shelf
	_, err := s.Take("one", skipper, false)
	assert.ErrorIs(t, err, ErrGone)
	first, err := s.Take("one", skipper, true)
	require.NoError(t, err)
	_, err = s.Take("one", finn, false)
	assert.ErrorIs(t, err, ErrGone)
	_, err = s.Take("one", skipper, true)
	assert.ErrorIs(t, err, ErrGone, "no two streams have one id")
	again, err := s.Take("one", skipper, false)
	require.NoError(t, err)
	assert.Same(t, first, again)
	_, err = s.Take("one", Owner{7, 2}, false)
	assert.ErrorIs(t, err, ErrGone, "that of another workspace")

	for i := range mostKept - 1 {
		_, err := s.Take(fmt.Sprint("more", i), skipper, true)
		require.NoError(t, err)
	}
	_, err = s.Take("one more", skipper, true)
	assert.ErrorIs(t, err, ErrFull)
	_, err = s.Take("another's", finn, true)
	assert.NoError(t, err, "who has many keeps nobody else out")
}

// Who does not read what comes keeps the other side from writing more, and neither the connection nor
// what was sent before is lost by it.
func TestWhoDoesNotRead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := newFerry()
		near, err := Dial(t.Context(), f.open, goneIsFinal)
		require.NoError(t, err)
		far := <-f.far
		cargo := bytes.Repeat([]byte("cargo"), most/5+50_000)
		go func() {
			_, _ = near.Write(cargo)
			_ = near.Close()
		}()
		<-time.After(time.Hour)
		assert.Len(t, far.come, most)
		assert.Equal(t, 1, f.made, "the connection is no worse for it")
		f.sink() // one breaks all the same
		<-time.After(time.Hour)
		assert.Len(t, far.come, most, "and nothing comes twice")
		got, err := io.ReadAll(far)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(cargo, got))
		_ = far.Close()
	})
}

// A confirmation that was lost with its connection is said again on the next one, and at once: who
// writes may wait for nothing else.
func TestALostConfirmation(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New()
		const cargo = 2 * confirmEvery
		meet := func() net.Conn {
			near, far := net.Pipe()
			go func() { _ = s.Carry(far) }()
			kind, _, err := readFrame(near)
			require.NoError(t, err)
			require.Equal(t, hello, kind)
			require.NoError(t, writeFrame(near, hello, number(0)))
			return near
		}
		first := meet()
		go func() {
			for range cargo / piece {
				_ = writeFrame(first, data, make([]byte, piece))
			}
		}()
		_, err := io.ReadFull(s, make([]byte, cargo))
		require.NoError(t, err)
		synctest.Wait() // the confirmation is on its way
		first.Close()

		second, before := meet(), time.Now()
		defer second.Close()
		kind, payload, err := readFrame(second)
		require.NoError(t, err)
		assert.Equal(t, confirm, kind)
		assert.Equal(t, number(cargo), payload)
		assert.Zero(t, time.Since(before), "nothing is waited for")
		s.Fail(errShut)
	})
}

// A connection on which something else speaks is no end of the stream.
func TestNonsenseOnAConnection(t *testing.T) {
	for _, said := range [][]byte{[]byte("HTTP/1.1 502 Bad Gateway"), {end, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0}, {hello, 0, 0, 0, 9}, {data, 255, 255, 255, 255}} {
		s := New()
		near, far := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		go func() {
			_, _ = far.Write(said)
			far.Close()
		}()
		assert.Error(t, s.Carry(near))
		assert.NoError(t, s.err)
	}
}

// Whatever the other side says, nothing breaks here.
func FuzzFrames(f *testing.F) {
	f.Add([]byte{hello, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0, data, 0, 0, 0, 1, 'x', end, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Add([]byte{hello, 0, 0, 0, 8, 255, 255, 255, 255, 255, 255, 255, 255})
	f.Add([]byte{data, 255, 255, 255, 255})
	f.Fuzz(func(t *testing.T, said []byte) {
		s := New()
		_, _ = s.Write([]byte("kept"))
		near, far := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		go func() {
			_, _ = far.Write(said)
			far.Close()
		}()
		_ = s.Carry(near)
		assert.LessOrEqual(t, len(s.kept), 4)
	})
}
