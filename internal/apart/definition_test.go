//go:build !cgo

package apart

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/demo"
	"domicile/internal/archive"
	"domicile/internal/compose"
	"domicile/internal/definition"
	"domicile/internal/fault"
)

// outside is what registries have.
type outside struct{}

// Feature gives features by their names, and faults of every kind.
func (outside) Feature(_ context.Context, r definition.Reference, digest string) (definition.Artifact, error) {
	switch r.ID {
	case "down":
		return definition.Artifact{}, fault.Transient(errors.New("no route"), "registry-down", "try again", "the registry of %s does not answer", r.Written)
	case "offline":
		return definition.Artifact{}, definition.ErrOffline
	case "other":
		return definition.Artifact{}, &definition.Mismatch{Want: digest, Got: "sha256:" + strings.Repeat("b", 64)}
	case "none":
		return definition.Artifact{}, fault.New("not-found", "correct the name", "there is no %s", r.Written)
	}
	return definition.Artifact{Digest: "sha256:" + strings.Repeat("a", 64), Files: repository(map[string]string{
		"devcontainer-feature.json": `{"id": "` + r.ID + `", "version": "1.2.3", "name": "Tide", "containerEnv": {"TIDE": "flood"}, "mounts": [{"source": "kept", "target": "/kept", "type": "volume"}], "options": {"level": {"type": "string", "enum": ["low", "high"], "default": "low"}}, "dependsOn": {"./none": {}}, "installsAfter": ["quay.test/f/x"], "customizations": {"domicile": {"tasks": [{"name": "t", "command": "x"}]}}}`,
		"install.sh":                "#!/bin/sh\nread -p 'which? ' x\n",
	})}, nil
}

// Image knows one image.
func (outside) Image(_ context.Context, reference string) (definition.ImageFacts, error) {
	switch reference {
	case "base:12":
		return definition.ImageFacts{Resolved: "base@sha256:" + strings.Repeat("c", 64), Metadata: []byte(`[{"remoteUser": "crew", "postCreateCommand": "echo image"}]`), Architectures: []string{"amd64", "arm64"}}, nil
	case "local:1":
		return definition.ImageFacts{}, nil
	}
	return definition.ImageFacts{}, fault.Transient(errors.New("refused"), "registry-down", "try again", "%s cannot be asked for", reference)
}

func repositories(t *testing.T) map[string]fs.FS {
	t.Helper()
	const at = ".devcontainer/devcontainer.json"
	list := map[string]fs.FS{
		"nothing":  repository(nil),
		"broken":   repository(map[string]string{at: "{\n  \"image\": \n}"}),
		"mistakes": repository(map[string]string{at: `{"image": "base:12", "forwardPorts": [99999999], "remotUser": "x", "mounts": ["nonsense"], "workspaceFolder": 7}`}),
		"several":  repository(map[string]string{".devcontainer/a/devcontainer.json": "{}", ".devcontainer/b/devcontainer.json": "{}"}),
		"everything": repository(map[string]string{at: `// all at once
{"name": "deck", "image": "base:12", "features": {"quay.test/f/tide:1": {"level": "high"}, "./own": true, "quay.test/f/down:1": {}, "quay.test/f/offline": {}, "quay.test/f/none": {}, "quay.test/f/other": {}, "./out/../../..": {}},
 "forwardPorts": [3000, "db:5432"], "appPort": [8000, "9000:9001"], "portsAttributes": {"3000": {"label": "board", "onAutoForward": "notify"}}, "remoteEnv": {"A": "${containerEnv:PATH}", "B": null, "C": "${localEnv:HOME}"}, "containerEnv": {"Z": "${localWorkspaceFolderBasename}", "A": "1"},
 "mounts": ["source=x,target=/x,type=volume", {"type": "tmpfs", "target": "/t"}], "runArgs": ["--init"], "hostRequirements": {"cpus": 2, "memory": "4gb", "gpu": "optional"}, "secrets": {"K": {"description": "a key"}},
 "postCreateCommand": {"b": "make", "a": ["npm", "ci"]}, "onCreateCommand": "echo ${devcontainerId}", "waitFor": "postCreateCommand", "customizations": {"domicile": {"checks": [{"name": "c", "command": "true", "exitStatus": 0}], "size": "small"}, "x": [1, 2.5, 1e9]}}`,
			".devcontainer/own/devcontainer-feature.json": `{"id": "own", "version": "1", "privileged": true, "entrypoint": "/e.sh"}`, ".devcontainer/own/install.sh": "exit 0",
			".devcontainer/devcontainer-lock.json": `{"features": {"quay.test/f/other": {"version": "1", "resolved": "quay.test/f/other@sha256:` + strings.Repeat("d", 64) + `", "integrity": "sha256:` + strings.Repeat("d", 64) + `"}}}`,
			".devcontainer/domicile-lock.json":     `{"images": {"base:12": {"resolved": "base@sha256:` + strings.Repeat("e", 64) + `"}}}`}),
		"dockerfile": repository(map[string]string{at: `{"build": {"dockerfile": "Dockerfile", "context": "..", "args": {"V": "12"}, "cacheFrom": "base:12"}}`, ".devcontainer/Dockerfile": "ARG V\nFROM base:$V AS one\nRUN --mount=type=cache,target=/c true\nUSER crew\nFROM local:1\nCOPY --from=one /a /b\nRUN curl x | apt-get install y\n",
			".dockerignore": "*.log\n!keep.log\nbuild\n", "a.log": "1", "keep.log": "2", "build/x": "3", "src/main.go": "package main"}),
		"a wrong pattern": repository(map[string]string{at: `{"build": {"dockerfile": "Dockerfile"}}`, ".devcontainer/Dockerfile": "FROM base:12", ".devcontainer/.dockerignore": "[a"}),
		"compose":         repository(map[string]string{at: `{"dockerComposeFile": ["c.yaml"], "service": "work", "runServices": ["db"], "workspaceFolder": "/w"}`, ".devcontainer/c.yaml": "services:\n  work: { build: { context: . } , depends_on: [db] }\n  db: { image: postgres:15, privileged: true, ports: ['5432'] }\n", ".devcontainer/Dockerfile": "FROM base:12\n"}),
		"no compose":      repository(map[string]string{at: `{"dockerComposeFile": "none.yaml", "service": "work"}`}),
	}
	list["nowhere"] = repository(map[string]string{at: `{"image": "base:12", "workspaceMount": "", "workspaceFolder": "/w"}`})
	for _, name := range demo.Names {
		files, err := demo.Repository(name)
		require.NoError(t, err)
		list["demo "+name] = files
	}
	return list
}

// A definition that was read elsewhere is the same in all that follows from it.
func TestADefinitionReadElsewhere(t *testing.T) {
	r, err := Start(program())
	require.NoError(t, err)
	defer r.Close()
	for name, files := range repositories(t) {
		t.Run(name, func(t *testing.T) {
			o := definition.Options{Folder: "/workspaces/deck", Artifacts: outside{}, Images: outside{}, Compose: compose.Reader{}}
			here := definition.Read(t.Context(), files, o)
			there, err := r.Definition(t.Context(), "", files, o)
			require.NoError(t, err)
			assert.Equal(t, plain(t, here), plain(t, there))
			if here.Transient != nil {
				assert.Equal(t, fault.Code(here.Transient), fault.Code(there.Transient))
				assert.True(t, fault.IsTransient(there.Transient))
			}
			require.Len(t, there.Features, len(here.Features))
			for i, f := range here.Features {
				if f.Files() == nil {
					assert.Nil(t, there.Features[i].Files())
					continue
				}
				want, err := definition.TreeDigest(f.Files(), nil)
				require.NoError(t, err)
				got, err := definition.TreeDigest(there.Features[i].Files(), nil)
				require.NoError(t, err)
				assert.Equal(t, want, got, f.Reference)
			}
			if e := here.Effective; e != nil && e.Build != nil {
				assert.Equal(t, here.InputDigest(e.Build), there.InputDigest(there.Effective.Build))
				assert.Equal(t, here.KeepsCaches(e.Build), there.KeepsCaches(there.Effective.Build))
			}
		})
	}
}

// plain is a report as text, without where the features' files are.
func plain(t *testing.T, r *definition.Report) string {
	t.Helper()
	p := r.Plain()
	p.Files = nil
	data, err := json.MarshalIndent(p, "", " ")
	require.NoError(t, err)
	shown, err := json.MarshalIndent(r, "", " ")
	require.NoError(t, err)
	return string(data) + string(shown)
}

// What a process that was taken over says is not believed.
func TestNonsenseFromAReader(t *testing.T) {
	none := func(definition.FeatureFiles) (fs.FS, error) { return nil, errors.New("none") }
	for name, text := range map[string]string{
		"features without files": `{"report": {"features": [{"reference": "x"}]}}`,
		"files of nobody":        `{"report": {"features": [{"reference": "x"}]}, "variables": [[]], "files": [{"System": 9, "Folder": "."}]}`,
		"no text":                `{"report": {"file": "a"}, "text": {"File": "a"}}`,
	} {
		var in definition.Reading
		require.NoError(t, json.Unmarshal([]byte(text), &in))
		_, err := in.Whole(none)
		assert.Error(t, err, name)
	}
	a := &answers{systems: []fs.FS{fstest.MapFS{"a": &fstest.MapFile{Data: []byte("x")}}}, artifacts: outside{}}
	for _, q := range []question{{Kind: "shell"}, {Kind: askRead, System: 0, Name: "a"}, {Kind: askRead, System: 2, Name: "a"}, {Kind: askRead, System: -1, Name: "a"}, {Kind: askRead, System: 1, Name: "../a"}, {Kind: askRead, System: 1, Name: "/etc/passwd"}, {Kind: askTree, System: 1, Name: ".."}, {Kind: askContext, System: 1, Name: "../.."}, {Kind: askFeature, Name: "./local"}, {Kind: askFeature, Name: "not a reference"}} {
		out := a.to(t.Context(), q)
		assert.True(t, out.Wrong != "" || out.None, "%+v: %+v", q, out)
		assert.Empty(t, out.Bytes)
	}
	assert.Equal(t, "x", string(a.to(t.Context(), question{Kind: askRead, System: 1, Name: "a"}).Bytes))
}

// archives are tar archives, plain, packed and hostile.
func archives(t *testing.T) map[string][]byte {
	t.Helper()
	packed := func(write func(w *tar.Writer)) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		write(w)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	put := func(w *tar.Writer, h tar.Header, content string) {
		h.Size = int64(len(content))
		if h.Typeflag == 0 {
			h.Typeflag, h.Mode = tar.TypeReg, 0o755
		}
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(content))
		require.NoError(t, err)
	}
	usual := packed(func(w *tar.Writer) {
		put(w, tar.Header{Name: "bin/run"}, strings.Repeat("tide", 200_000))
		put(w, tar.Header{Name: "empty"}, "")
		put(w, tar.Header{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "bin/run"}, "")
		put(w, tar.Header{Name: "empty"}, "not any more")
	})
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, err := z.Write(usual)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return map[string][]byte{
		"usual": usual, "zipped": zipped.Bytes(), "none": nil, "cut": usual[:300_000], "zipped and cut": zipped.Bytes()[:len(zipped.Bytes())-9], "no archive": []byte("tide tide tide"),
		"leads out": packed(func(w *tar.Writer) { put(w, tar.Header{Name: "../x"}, "x") }),
		"a link that leads out": packed(func(w *tar.Writer) {
			put(w, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "../../etc"}, "")
			put(w, tar.Header{Name: "l/x"}, "x")
		}),
		"a device": packed(func(w *tar.Writer) { put(w, tar.Header{Name: "d", Typeflag: tar.TypeChar}, "") }),
		"too many": packed(func(w *tar.Writer) {
			for i := range 30 {
				put(w, tar.Header{Name: strconv.Itoa(i)}, "x")
			}
		}),
		"too large": packed(func(w *tar.Writer) { put(w, tar.Header{Name: "x"}, strings.Repeat("x", 1<<20)) }),
	}
}

// An archive that was taken apart elsewhere makes the same folder, or is refused alike.
func TestAnArchiveTakenApartElsewhere(t *testing.T) {
	r, err := Start(program())
	require.NoError(t, err)
	defer r.Close()
	limits := archive.Limits{Bytes: 1 << 20, Entries: 20}
	for name, content := range archives(t) {
		into := func(unpack func(context.Context, io.Reader, *os.Root, archive.Limits) error) (string, error) {
			root, err := os.OpenRoot(t.TempDir())
			require.NoError(t, err)
			defer root.Close()
			if err := unpack(t.Context(), bytes.NewReader(content), root, limits); err != nil {
				return "", err
			}
			digest, err := definition.TreeDigest(root.FS(), nil)
			require.NoError(t, err)
			return digest, nil
		}
		want, wrong := into(archive.Unpack)
		got, err := into(r.Unpack)
		assert.Equal(t, want, got, name)
		if wrong == nil {
			assert.NoError(t, err, name)
			continue
		}
		require.Error(t, err, name)
		assert.Equal(t, wrong.Error(), err.Error(), name)
		assert.Equal(t, errors.Is(wrong, archive.ErrRefused), errors.Is(err, archive.ErrRefused), name)
	}
}

// A reader that breaks off is told as what it is.
func TestAnArchiveThatBreaksOff(t *testing.T) {
	r, err := Start(program())
	require.NoError(t, err)
	defer r.Close()
	root, err := os.OpenRoot(t.TempDir())
	require.NoError(t, err)
	defer root.Close()
	broken := errors.New("the line is cut")
	err = r.Unpack(t.Context(), io.MultiReader(bytes.NewReader(archives(t)["usual"][:100_000]), iotest.ErrReader(broken)), root, archive.Usual)
	assert.ErrorIs(t, err, broken)
}

// slow is a registry that answers when it is told to.
type slow struct {
	outside
	goOn <-chan struct{}
}

// Image waits.
func (s slow) Image(ctx context.Context, reference string) (definition.ImageFacts, error) {
	<-s.goOn
	return s.outside.Image(ctx, reference)
}

// Who gives up does not wait for another's reading of the same text.
func TestGivingUpWhileAnotherReads(t *testing.T) {
	r, err := Start(program())
	require.NoError(t, err)
	defer r.Close()
	files, goOn, ended := repository(map[string]string{".devcontainer/devcontainer.json": `{"image": "base:12"}`}), make(chan struct{}), make(chan error, 1)
	go func() {
		_, err := r.Definition(context.WithoutCancel(t.Context()), "one", files, definition.Options{Folder: "/w", Artifacts: outside{}, Images: slow{goOn: goOn}})
		ended <- err
	}()
	require.Eventually(t, func() bool {
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.texts["one"] != nil && len(r.texts["one"].using) == 1
	}, 10*time.Second, time.Millisecond)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = r.Definition(ctx, "one", files, definition.Options{Folder: "/w"})
	assert.ErrorIs(t, err, context.Canceled)
	close(goOn)
	assert.NoError(t, <-ended)
}
