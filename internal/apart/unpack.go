package apart

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"sync"
	"time"

	"domicile/internal/archive"
)

// Unpack unpacks an archive as archive.Unpack does. The archive is taken apart by the
// process, and each of its entries is judged here again before it is made.
func (r *Readers) Unpack(ctx context.Context, from io.Reader, root *os.Root, l archive.Limits) error {
	p, err := r.take()
	if err != nil {
		return err
	}
	defer func() { r.refillSoon() }()
	var all sync.WaitGroup
	defer all.Wait() // whoever gave the reader reads on when this is over
	defer p.end()
	stop := context.AfterFunc(ctx, func() { _ = p.cmd.Process.Kill() })
	defer stop()
	to := json.NewEncoder(p.in)
	if err := to.Encode(order{Read: &request{Archive: true}}); err != nil {
		return fmt.Errorf("hand an archive over: %w", err)
	}
	var broken error // of the reader
	all.Go(func() {
		if broken = pass(to, from); broken != nil {
			_ = p.cmd.Process.Kill()
		}
	})
	entries := &entries{process: p, folder: archive.Folder{Root: root, Limits: l}}
	if err := entries.put(); err != nil {
		p.end()
		all.Wait()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errors.Join(broken, err)
	}
	return nil
}

// pass hands an archive over in pieces. That nobody takes them any more is no error: its
// end comes before that of its bytes.
func pass(to *json.Encoder, from io.Reader) error {
	buffer := make([]byte, pieceSize)
	for {
		n, err := io.ReadFull(from, buffer)
		if n > 0 && to.Encode(order{Piece: &piece{buffer[:n]}}) != nil {
			return nil
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			_ = to.Encode(order{Piece: &piece{}})
			return nil
		case err != nil:
			return fmt.Errorf("read the archive: %w", err)
		}
	}
}

// entries are what comes back.
type entries struct {
	*process
	folder archive.Folder
	next   *message // one that was read and belongs to what comes after
	rest   []byte   // of the piece that is being read
}

func (e *entries) message() (m message, err error) {
	if e.next != nil {
		m, e.next = *e.next, nil
		return m, nil
	}
	// A process that says nothing is at its end.
	late := time.AfterFunc(readLimit, func() { _ = e.cmd.Process.Kill() })
	defer late.Stop()
	if err := e.hear(&m); err != nil {
		return m, fmt.Errorf("read the archive: %w", gone(err))
	}
	return m, nil
}

func (e *entries) put() error {
	for {
		m, err := e.message()
		switch {
		case err != nil:
			return err
		case m.Done != nil && m.Done.Wrong != "":
			return errors.New(m.Done.Wrong)
		case m.Done != nil:
			return nil
		case m.Entry != nil:
			e.rest = nil
			if err := e.folder.Put(*m.Entry, e); err != nil {
				return err
			}
		case m.Piece == nil: // a piece that the folder did not want is passed over
			return errNonsense
		}
	}
}

// Read reads the content of the entry that came last.
func (e *entries) Read(b []byte) (int, error) {
	for len(e.rest) == 0 {
		m, err := e.message()
		if err != nil {
			return 0, err
		}
		if m.Piece == nil {
			e.next = &m
			return 0, io.EOF
		}
		e.rest = m.Piece
	}
	n := copy(b, e.rest)
	e.rest = e.rest[n:]
	return n, nil
}

// pieces is an archive that comes in pieces: the process's side.
type pieces struct {
	in    *json.Decoder
	rest  []byte
	ended bool
}

// Read reads from the piece that came last, or the next.
func (p *pieces) Read(b []byte) (int, error) {
	for len(p.rest) == 0 {
		if p.ended {
			return 0, io.EOF
		}
		var next order
		if err := p.in.Decode(&next); err != nil {
			return 0, err
		}
		if p.ended = next.Piece == nil || len(next.Piece.Bytes) == 0; !p.ended {
			p.rest = next.Piece.Bytes
		}
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

// takeApart gives the entries of an archive.
func takeApart(in *json.Decoder, out *json.Encoder) *done {
	buffer := make([]byte, pieceSize)
	err := archive.Read(context.Background(), &pieces{in: in}, func(e archive.Entry, content io.Reader) error {
		if err := out.Encode(message{Entry: &e}); err != nil {
			return err
		}
		if _, err := io.CopyBuffer(sender{out}, content, buffer); err != nil {
			return fmt.Errorf("unpack %s: %w", path.Clean(e.Name), err)
		}
		return nil
	})
	if err != nil {
		return &done{Wrong: err.Error()}
	}
	return &done{}
}

// sender sends what is written to it in pieces.
type sender struct{ out *json.Encoder }

func (s sender) Write(b []byte) (int, error) {
	if err := s.out.Encode(message{Piece: b}); err != nil {
		return 0, err
	}
	return len(b), nil
}
