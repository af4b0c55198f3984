package apart

import (
	"context"
	"embed"
	"encoding/json"
	"io"
	"io/fs"
	"os"
	"runtime/debug"

	"domicile/internal/apart/leaving"
	"domicile/internal/compose"
	"domicile/internal/definition"
)

// maxHeap bounds the memory that the process may use before it is collected at any price.
const maxHeap = 512 << 20

// Left is what a program is called that is to call Main: it has left everything behind.
const Left = leaving.Left

// Main is the whole process.
func Main() int {
	debug.SetGCPercent(-1) // a reading is short: only the bound counts
	debug.SetMemoryLimit(maxHeap)
	in, out := json.NewDecoder(os.Stdin), json.NewEncoder(os.Stdout)
	var o order
	for {
		if err := in.Decode(&o); err != nil || o.Read == nil {
			return 0 // it was not needed
		}
		if !o.Read.Warm {
			break
		}
		warm()
		o = order{}
		if err := out.Encode(message{Ready: true}); err != nil {
			return 1
		}
	}
	if o.Read.Archive {
		if err := out.Encode(message{Done: takeApart(in, out)}); err != nil {
			return 1
		}
		return 0
	}
	c := newConversation(in, out)
	for q := o.Read; q != nil; q = <-c.orders {
		if err := c.say(message{Done: read(*q, &files{c, repositorySystem, "."}, c)}); err != nil {
			return 1
		}
	}
	return 0
}

func read(q request, files fs.FS, c *conversation) *done {
	ctx := context.Background()
	if w := q.Definition; w != nil {
		o := definition.Options{File: w.File, Folder: w.Folder, IgnoreLocks: w.IgnoreLocks, Labels: w.Labels, Variations: w.Variations, Compose: compose.Reader{}}
		if c != nil {
			o.Artifacts, o.Images = c, c
		}
		plain := definition.Read(ctx, files, o).Plain()
		return &done{Definition: &plain}
	}
	r := compose.Reading{}
	if len(q.Compose) > 0 {
		r = compose.Read(ctx, files, q.Compose, nil)
	}
	return &done{Compose: &r}
}

//go:embed all:warm
var warming embed.FS

// warm reads files of its own, for what the first reading prepares takes most of its time.
func warm() {
	own, err := fs.Sub(warming, "warm")
	if err != nil {
		return // the first reading prepares it then
	}
	_ = json.NewEncoder(io.Discard).Encode(read(request{Definition: &wanted{Folder: "/w"}}, own, nil))
}
