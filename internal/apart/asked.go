package apart

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path"
	"sync"
	"time"

	"domicile/internal/definition"
)

// conversation is the process's side: what it has not, it asks for, several things at once.
type conversation struct {
	writing sync.Mutex
	out     *json.Encoder
	orders  chan *request // further readings of the same text
	mu      sync.Mutex
	next    int
	waiting map[int]chan answer
	broken  bool
}

func newConversation(in *json.Decoder, out *json.Encoder) *conversation {
	c := &conversation{out: out, orders: make(chan *request, 1), waiting: map[int]chan answer{}}
	go func() {
		for {
			var o order
			err := in.Decode(&o)
			c.mu.Lock()
			switch {
			case err != nil:
				c.broken = true
				for _, w := range c.waiting {
					close(w)
				}
				close(c.orders)
				c.mu.Unlock()
				return
			case o.Read != nil:
				c.orders <- o.Read
			case o.Answer != nil:
				if w, is := c.waiting[o.Answer.ID]; is {
					delete(c.waiting, o.Answer.ID)
					w <- *o.Answer
				}
			}
			c.mu.Unlock()
		}
	}()
	return c
}

func (c *conversation) say(m message) error {
	c.writing.Lock()
	defer c.writing.Unlock()
	return c.out.Encode(m)
}

var errBroken = errors.New("nobody answers")

// ask asks and waits for the answer.
func (c *conversation) ask(q question) (answer, error) {
	got := make(chan answer, 1)
	c.mu.Lock()
	if c.broken {
		c.mu.Unlock()
		return answer{}, errBroken
	}
	c.next++
	q.ID = c.next
	c.waiting[q.ID] = got
	c.mu.Unlock()
	if err := c.say(message{Ask: &q}); err != nil {
		return answer{}, err
	}
	a, is := <-got
	if !is {
		return answer{}, errBroken
	}
	switch {
	case a.None:
		return a, fs.ErrNotExist
	case a.Offline:
		return a, definition.ErrOffline
	case a.Mismatch != nil:
		return a, a.Mismatch
	case a.Fault != nil:
		return a, a.Fault
	case a.Wrong != "":
		return a, errors.New(a.Wrong)
	}
	return a, nil
}

// Feature implements definition.Artifacts.
func (c *conversation) Feature(_ context.Context, r definition.Reference, digest string) (definition.Artifact, error) {
	a, err := c.ask(question{Kind: askFeature, Name: r.Written, Digest: digest})
	if err != nil {
		return definition.Artifact{}, err
	}
	return definition.Artifact{Files: &files{c, a.System, "."}, Digest: a.Text}, nil
}

// Image implements definition.Images.
func (c *conversation) Image(_ context.Context, reference string) (definition.ImageFacts, error) {
	a, err := c.ask(question{Kind: askImage, Name: reference})
	return definition.ImageFacts{Resolved: a.Text, Metadata: a.Bytes, Architectures: a.Architectures}, err
}

// files are files that are elsewhere.
type files struct {
	*conversation
	system int
	folder string
}

var (
	_ fs.StatFS         = (*files)(nil)
	_ fs.ReadFileFS     = (*files)(nil)
	_ fs.ReadDirFS      = (*files)(nil)
	_ fs.SubFS          = (*files)(nil)
	_ definition.Hasher = (*files)(nil)
)

// Place tells which files they are.
func (f *files) Place() definition.FeatureFiles {
	return definition.FeatureFiles{System: f.system, Folder: f.folder}
}

func (f *files) get(kind, op, name string) (answer, error) {
	if !fs.ValidPath(name) {
		return answer{}, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	a, err := f.ask(question{Kind: kind, System: f.system, Name: path.Join(f.folder, name)})
	if err != nil {
		return a, &fs.PathError{Op: op, Path: name, Err: err}
	}
	return a, nil
}

// Open opens a file or folder.
func (f *files) Open(name string) (fs.File, error) {
	info, err := f.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		list, err := f.ReadDir(name)
		if err != nil {
			return nil, err
		}
		return &given{info: info, list: list, Reader: bytes.NewReader(nil)}, nil
	}
	b, err := f.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return &given{info: info, Reader: bytes.NewReader(b)}, nil
}

// Stat tells what is there.
func (f *files) Stat(name string) (fs.FileInfo, error) {
	a, err := f.get(askStat, "stat", name)
	if err != nil {
		return nil, err
	}
	if len(a.Entries) != 1 {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: errBroken}
	}
	return info{a.Entries[0]}, nil
}

// ReadFile reads a file.
func (f *files) ReadFile(name string) ([]byte, error) {
	a, err := f.get(askRead, "open", name)
	return a.Bytes, err
}

// ReadDir lists a folder.
func (f *files) ReadDir(name string) (list []fs.DirEntry, err error) {
	a, err := f.get(askList, "open", name)
	for _, e := range a.Entries {
		list = append(list, fs.FileInfoToDirEntry(info{e}))
	}
	return list, err
}

// Sub gives a folder of them.
func (f *files) Sub(folder string) (fs.FS, error) {
	if !fs.ValidPath(folder) {
		return nil, &fs.PathError{Op: "sub", Path: folder, Err: fs.ErrInvalid}
	}
	return &files{f.conversation, f.system, path.Join(f.folder, folder)}, nil
}

// TreeDigest implements definition.Hasher.
func (f *files) TreeDigest() (string, error) {
	a, err := f.get(askTree, "read", ".")
	return a.Text, err
}

// ContextDigest implements definition.Hasher.
func (f *files) ContextDigest(context string, counted, ignored []string) (string, error) {
	if f.folder != "." {
		return "", errors.New("a context is a folder of the repository")
	}
	a, err := f.ask(question{Kind: askContext, System: f.system, Name: context, Counted: counted, Ignored: ignored})
	return a.Text, err
}

// info is what is told of a file.
type info struct{ of entry }

func (i info) Name() string       { return i.of.Name }
func (i info) Size() int64        { return i.of.Size }
func (i info) Mode() fs.FileMode  { return fs.FileMode(i.of.Mode) }
func (i info) IsDir() bool        { return i.Mode().IsDir() }
func (i info) ModTime() time.Time { return time.Time{} }
func (i info) Sys() any           { return nil }

// given is a file or folder that was given.
type given struct {
	*bytes.Reader
	info fs.FileInfo
	list []fs.DirEntry
}

func (g *given) Close() error               { return nil }
func (g *given) Stat() (fs.FileInfo, error) { return g.info, nil }

// ReadDir lists the next n entries; all of them where n is 0 or less.
func (g *given) ReadDir(n int) ([]fs.DirEntry, error) {
	if n <= 0 || n > len(g.list) {
		n = len(g.list)
	}
	out := g.list[:n]
	g.list = g.list[n:]
	return out, nil
}
