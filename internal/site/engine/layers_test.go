package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/layer"
	"domicile/internal/plan"
	"domicile/internal/site"
)

// A snapshot is kept by its layer; whoever answers for a machine gives what it likes: of what is not
// whole, too large, or no layer, nothing is kept.
func TestSnapshotsByTheirLayers(t *testing.T) {
	ctx := t.Context()
	s := newSite(t, "testlayers", t.TempDir())
	base, err := plan.JudgeImage(world.RegistryAt+"/skerry/base:12", judge.Subject{})
	require.NoError(t, err)
	_, err = s.EnsureImage(ctx, base, func(string) {})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Remove(context.WithoutCancel(ctx), "w1")) })
	_, err = s.EnsureVolume(ctx, "w1")
	require.NoError(t, err)
	container, err := plan.JudgeContainer(plan.Container{Image: base.Name(), Hostname: "deck", Override: true, SourceTarget: "/src/deck", Digest: "one"}, judge.Subject{Account: 1})
	require.NoError(t, err)
	require.NoError(t, s.EnsureInstance(ctx, "w1", container))

	for name, c := range map[string]struct {
		answers func(w io.Writer, whole []byte)
		most    int64
		code    string // of the fault; empty: it is kept
		passes  bool
		not     error
	}{
		"whole":       {answers: func(w io.Writer, whole []byte) { _, _ = w.Write(whole) }},
		"cut off":     {answers: func(w io.Writer, whole []byte) { _, _ = w.Write(whole[:len(whole)/2]) }, code: "connection-lost", passes: true},
		"without end": {answers: func(w io.Writer, whole []byte) { _, _ = w.Write(whole[:len(whole)-len(layer.End)]) }, code: "connection-lost", passes: true},
		"too large":   {answers: func(w io.Writer, whole []byte) { _, _ = w.Write(bytes.Repeat(whole, 50)) }, most: 10_000, code: "disk-full"},
		"no layer": {answers: func(w io.Writer, _ []byte) {
			_, _ = io.WriteString(w, "the tide is out, and nothing of this is an archive"+layer.End)
		}, code: "engine-unavailable", passes: true},
		"nothing":      {answers: func(io.Writer, []byte) {}, code: "internal", not: ErrNotHere},
		"a short word": {answers: func(w io.Writer, _ []byte) { _, _ = io.WriteString(w, "x") }, code: "connection-lost", passes: true},
	} {
		t.Run(name, func(t *testing.T) {
			dial := func(context.Context) (net.Conn, error) {
				ours, theirs := net.Pipe()
				go func() {
					defer theirs.Close()
					var parts []layer.Part
					if !assert.NoError(t, json.NewDecoder(theirs).Decode(&parts)) {
						return
					}
					assert.Len(t, parts, 2, "what it has beyond its image, and its source")
					assert.Equal(t, "src/deck", parts[1].At)
					var whole bytes.Buffer
					assert.NoError(t, layer.Write(&whole, parts))
					whole.WriteString(layer.End)
					c.answers(theirs, whole.Bytes())
				}()
				return ours, nil
			}
			if c.most == 0 {
				c.most = 1 << 30
			}
			saved, err := s.SaveLayers(ctx, Layers{From: s, Folder: t.TempDir(), Most: c.most, Dial: dial}, "w1", "s7", func(string) {})
			image, judgeErr := plan.JudgeImage(s.snapshotTag("s7", ""), judge.Subject{Images: []string{s.snapshotTag("s7", "")}})
			require.NoError(t, judgeErr)
			has, hasErr := s.HasImage(ctx, image)
			require.NoError(t, hasErr)
			if c.code == "" {
				require.NoError(t, err)
				assert.True(t, has)
				assert.Equal(t, s.snapshotTag("s7", ""), saved.Images[""])
				assert.Positive(t, saved.Bytes)
				require.NoError(t, s.RemoveSaved(ctx, "s7"))
				has, err = s.HasImage(ctx, image)
				require.NoError(t, err)
				assert.False(t, has, "it is found by its snapshot")
				return
			}
			assert.False(t, has, "nothing is kept")
			assert.Equal(t, c.code, fault.Code(err), "%v", err)
			assert.Equal(t, c.passes, fault.IsTransient(err))
			if c.not != nil {
				assert.True(t, errors.Is(err, c.not))
			}
		})
	}
}

// An image that bears a snapshot's name and is none of it is not taken in: nothing would find it
// again.
func TestAnImageThatIsNoneOfTheSnapshot(t *testing.T) {
	ctx := t.Context()
	s := newSite(t, "teststrange", t.TempDir())
	base, err := plan.JudgeImage(world.RegistryAt+"/skerry/base:12", judge.Subject{})
	require.NoError(t, err)
	_, err = s.EnsureImage(ctx, base, func(string) {})
	require.NoError(t, err)
	name := s.snapshotTag("s8", "")
	require.NoError(t, s.api.ImageTag(ctx, s.local(base.Name()), name))
	err = s.TakeIn(ctx, s, "s8", site.Saved{Images: map[string]string{"": name}}, func(string) {})
	assert.Equal(t, "not-a-snapshot", fault.Code(err), "%v", err)
	image, err := plan.JudgeImage(name, judge.Subject{Images: []string{name}})
	require.NoError(t, err)
	has, err := s.HasImage(ctx, image)
	require.NoError(t, err)
	assert.False(t, has, "its name is taken away again")
}
