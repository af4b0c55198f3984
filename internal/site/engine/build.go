package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"

	"github.com/distribution/reference"
	"github.com/moby/buildkit/client"
	"github.com/moby/buildkit/client/llb"
	"github.com/moby/buildkit/client/llb/sourceresolver"
	"github.com/moby/buildkit/exporter/containerimage/exptypes"
	"github.com/moby/buildkit/frontend/dockerfile/dockerfile2llb"
	"github.com/moby/buildkit/frontend/dockerui"
	gateway "github.com/moby/buildkit/frontend/gateway/client"
	"github.com/moby/buildkit/session"
	"github.com/moby/buildkit/session/auth/authprovider"
	"github.com/moby/buildkit/session/secrets/secretsprovider"
	"github.com/moby/buildkit/solver/pb"
	dockerspec "github.com/moby/docker-image-spec/specs-go/v1"
	"github.com/opencontainers/go-digest"
	ocispecs "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/tonistiigi/fsutil"

	"domicile/internal/archive"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/recipe"
	"domicile/internal/site"
)

// EnsureBuilt builds an image unless it is there. Images are named by the digest of their
// recipe, so that whoever needs the same finds it.
func (s *Site) EnsureBuilt(ctx context.Context, b site.Build, progress func(string)) (site.Image, error) {
	built := b.Recipe.Value()
	tag := s.local(built.Tag())
	found, err := s.inspectImage(ctx, tag)
	if err == nil || !isNotFound(err) {
		return found, s.explain(err, "look for the image "+tag)
	}
	with, err := s.builder()
	if err != nil {
		return site.Image{}, err
	}
	if err := with.build(ctx, b, progress); err != nil {
		return site.Image{}, err
	}
	found, err = s.inspectImage(ctx, tag)
	found.Fetched = true
	return found, s.explain(err, "look at the image "+tag)
}

// oneBuild is one build.
type oneBuild struct {
	site.Build
	Recipe   *recipe.Recipe
	tag      string
	s        *Site // the engine that builds
	machine  string
	progress func(string)
	caps     gateway.BuildOpts
	mounts   map[string]fsutil.FS
	open     []io.Closer       // until the build is over
	fetched  []string          // folders for what ADD fetches
	failed   error             // what went wrong on this side
	text     string            // of the Dockerfile
	named    map[string]string // folders beside the context, as the builder's options name them
}

// build builds an image, and brings it to where it is wanted.
func (r *builder) build(ctx context.Context, b site.Build, progress func(string)) error {
	c, err := r.dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	built := b.Recipe.Value()
	w := &oneBuild{Build: b, Recipe: &built, tag: r.at.local(built.Tag()), s: r.at, machine: r.machine, progress: progress, mounts: map[string]fsutil.FS{}}
	folder, err := os.MkdirTemp("", "domicile-build-")
	if err != nil {
		return fmt.Errorf("make a folder for the build: %w", err)
	}
	defer os.RemoveAll(folder)
	if err := w.mountFeatures(ctx, folder); err != nil {
		return err
	}
	if built.Dockerfile != nil {
		if err := w.mountFetched(folder); err != nil {
			return err
		}
	}
	defer func() {
		for _, c := range w.open {
			c.Close()
		}
	}()
	if err := w.mountContext(); err != nil {
		return err
	}
	status, told := make(chan *client.SolveStatus), make(chan *buildLog)
	go func() { told <- followBuild(status, progress) }()
	attached := []session.Attachable{authprovider.NewDockerAuthProvider(authprovider.DockerAuthProviderConfig{})}
	if len(b.Secrets) > 0 {
		secrets := map[string][]byte{}
		for name, value := range b.Secrets {
			secrets[name] = []byte(value)
		}
		attached = append(attached, secretsprovider.FromMap(secrets))
	}
	_, err = c.Build(ctx, client.SolveOpt{LocalMounts: w.mounts, FrontendAttrs: w.named, Session: attached,
		Exports: []client.ExportEntry{r.export.entry(w.tag)}}, "domicile", w.solve, status)
	log := <-told
	if err != nil {
		return w.explain(err, log)
	}
	return r.export.bring(ctx, w.tag, progress)
}

// mountFeatures lays the features' files out where the builder can read them.
func (w *oneBuild) mountFeatures(ctx context.Context, folder string) error {
	for i, files := range w.Features {
		to := filepath.Join(folder, fmt.Sprint(i))
		if err := copyTree(ctx, files, to); err != nil {
			return fmt.Errorf("lay out the feature %s: %w", w.Recipe.Layers[i].Reference, err)
		}
		mounted, err := fsutil.NewFS(to)
		if err != nil {
			return fmt.Errorf("open the feature's files: %w", err)
		}
		w.mounts[featureMount(i)] = mounted
	}
	return nil
}

func featureMount(i int) string { return fmt.Sprintf("feature-%d", i) }

// copyTree copies a folder by way of an archive, which refuses what leads out.
func copyTree(ctx context.Context, files fs.FS, to string) error {
	if err := os.Mkdir(to, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return err
	}
	defer root.Close()
	r, out := io.Pipe()
	defer r.Close()
	go func() { out.CloseWithError(archive.Pack(out, files)) }()
	return archive.Unpack(ctx, r, root, archive.Usual)
}

// solve turns the recipe into BuildKit's own steps, on our side: the engine's part may be
// years older than the Dockerfile's syntax.
func (w *oneBuild) solve(ctx context.Context, c gateway.Client) (r *gateway.Result, err error) {
	defer func() { w.failed = err }() // the builder tells only its text
	w.caps = c.BuildOpts()
	state, image, err := w.base(ctx, c)
	if err != nil {
		return nil, err
	}
	state = w.layers(state, image)
	def, err := state.Marshal(ctx, llb.Platform(w.platform()), llb.WithCaps(w.caps.LLBCaps))
	if err != nil {
		return nil, fmt.Errorf("write the build's steps: %w", err)
	}
	if err := w.settle(ctx, def); err != nil {
		return nil, err
	}
	if d := w.Recipe.Dockerfile; d != nil && (d.NoCache || len(d.Secrets) > 0) {
		// A secret is no part of what the cache goes by: another's layer would be taken.
		for id, m := range def.Metadata {
			m.IgnoreCache = true
			def.Metadata[id] = m
		}
	}
	r, err = c.Solve(ctx, gateway.SolveRequest{Definition: def.ToPB()})
	if err != nil {
		return nil, err
	}
	label, err := recipe.Label(image.Config.Labels[recipe.MetadataLabel], w.Recipe.Metadata)
	if err != nil {
		return nil, err
	}
	if image.Config.Labels == nil {
		image.Config.Labels = map[string]string{}
	}
	image.Config.Labels[recipe.MetadataLabel] = label
	for name := range image.Config.Labels { // those of a base image that imitate ours
		if strings.HasPrefix(name, "domicile.") {
			delete(image.Config.Labels, name)
		}
	}
	image.Config.Labels[labelImage] = w.Recipe.Digest
	config, err := json.Marshal(image)
	if err != nil {
		return nil, err
	}
	r.AddMeta(exptypes.ExporterImageConfigKey, config)
	return r, nil
}

// platform is what images are built for: that of the place where they are wanted.
func (w *oneBuild) platform() ocispecs.Platform {
	return ocispecs.Platform{OS: "linux", Architecture: w.machine}
}

func (w *oneBuild) base(ctx context.Context, c gateway.Client) (llb.State, *dockerspec.DockerOCIImage, error) {
	d := w.Recipe.Dockerfile
	if d == nil {
		ref, _, config, err := w.ResolveImageConfig(ctx, w.Recipe.Base, sourceresolver.Opt{})
		if err != nil {
			return llb.State{}, nil, err
		}
		image := &dockerspec.DockerOCIImage{}
		if err := json.Unmarshal(config, image); err != nil {
			return llb.State{}, nil, fmt.Errorf("read the configuration of %s: %w", w.Recipe.Base, err)
		}
		state, err := llb.Image(ref, llb.ResolveModePreferLocal).WithImageConfig(config)
		return state, image, err
	}
	root, err := os.OpenRoot(w.Source)
	if err != nil {
		return llb.State{}, nil, fmt.Errorf("open the source: %w", err)
	}
	defer root.Close()
	text := []byte(d.Inline)
	if d.Inline == "" {
		if text, err = root.ReadFile(d.Path); err != nil {
			return llb.State{}, nil, fmt.Errorf("read the Dockerfile: %w", err)
		}
	}
	w.text = string(text)
	o := dockerfile2llb.ConvertOpt{MetaResolver: w, LLBCaps: &w.caps.LLBCaps, TargetPlatform: new(w.platform()),
		Config: dockerui.Config{BuildArgs: d.Args, Target: d.Target, Labels: d.Labels, CacheIDNamespace: w.s.o.Installation + "-" + w.Recipe.CacheSpace(), ImageResolveMode: llb.ResolveModePreferLocal, BuildPlatforms: []ocispecs.Platform{w.platform()}}}
	if len(w.named) > 0 {
		if o.Client, err = dockerui.NewClient(localOnly{c}); err != nil {
			return llb.State{}, nil, fmt.Errorf("name the build's contexts: %w", err)
		}
	}
	if d.NoNetwork {
		o.NetworkMode = pb.NetMode_NONE
	}
	for _, h := range d.Hosts {
		if name, address, found := strings.Cut(h, ":"); found {
			o.ExtraHosts = append(o.ExtraHosts, llb.HostIP{Host: name, IP: net.ParseIP(address)})
		}
	}
	r, err := dockerfile2llb.Dockerfile2LLB(ctx, text, o)
	if err != nil {
		return llb.State{}, nil, fault.Wrap(err, "bad-dockerfile", cmp.Or(fault.Remedy(err), "correct "+d.Path), "the Dockerfile %s cannot be built", d.Path)
	}
	return r.State, r.Image, nil
}

// layers puts one layer for each feature on top.
func (w *oneBuild) layers(state llb.State, image *dockerspec.DockerOCIImage) llb.State {
	env := map[string]string{}
	for _, v := range image.Config.Env {
		name, value, _ := strings.Cut(v, "=")
		env[name] = value
	}
	for i, l := range w.Recipe.Layers {
		for _, v := range l.Env {
			value := recipe.Expand(v.Value, env)
			env[v.Name] = value
			image.Config.Env = setEnv(image.Config.Env, v.Name, value)
			state = state.AddEnv(v.Name, value)
		}
		files := llb.Local(featureMount(i), llb.SharedKeyHint(l.Digest), llb.WithCustomName("read the feature "+l.Title))
		state = state.Run(llb.Args([]string{"/bin/sh", "-c", w.Recipe.Script(l, image.Config.User)}), llb.User("root"), llb.Dir("/tmp/domicile-feature"),
			llb.AddMount("/tmp/domicile-feature", files), llb.WithCustomName("install the feature "+l.Title)).Root()
	}
	if w.Recipe.User != nil {
		state = state.Run(llb.Args([]string{"/bin/sh", "-c", w.Recipe.UserScript(image.Config.User)}), llb.User("root"), llb.WithCustomName("give the user the numbers of the source's owner")).Root()
	}
	return state
}

func setEnv(list []string, name, value string) []string {
	for i, v := range list {
		if strings.HasPrefix(v, name+"=") {
			list[i] = name + "=" + value
			return list
		}
	}
	return append(list, name+"="+value)
}

// ResolveImageConfig brings an image to the engine, pinned where a lock says so, and gives
// its configuration: BuildKit then uses the engine's own copy.
func (w *oneBuild) ResolveImageConfig(ctx context.Context, ref string, _ sourceresolver.Opt) (string, digest.Digest, []byte, error) {
	asked := ref
	for written, pinned := range w.Recipe.Pins {
		if sameImage(written, ref) {
			asked = pinned
		}
	}
	// Whatever a Dockerfile names, by whatever spelling, comes by here.
	j := judge.New(judge.Subject{})
	image := j.Pulled(w.place(), asked)
	if err := j.Err(); err != nil {
		return "", "", nil, err
	}
	asked = image.Name()
	if _, err := w.s.EnsureImage(ctx, image, w.progress); err != nil {
		return "", "", nil, err
	}
	i, err := w.s.api.ImageInspect(ctx, asked)
	if err != nil {
		return "", "", nil, w.s.explain(err, "look at the image "+asked)
	}
	found := dockerspec.DockerOCIImage{Image: ocispecs.Image{Platform: ocispecs.Platform{OS: i.Os, Architecture: i.Architecture}, RootFS: ocispecs.RootFS{Type: i.RootFS.Type}}}
	for _, l := range i.RootFS.Layers {
		found.RootFS.DiffIDs = append(found.RootFS.DiffIDs, digest.Digest(l))
	}
	if i.Config != nil {
		found.Config = *i.Config
	}
	config, err := json.Marshal(found)
	return asked, "", config, err
}

// place names the file that the build is read from.
func (w *oneBuild) place() string {
	if w.Recipe.Dockerfile != nil {
		return w.Recipe.Dockerfile.Path
	}
	return ""
}

func sameImage(a, b string) bool {
	x, errX := reference.ParseNormalizedNamed(a)
	y, errY := reference.ParseNormalizedNamed(b)
	return errX == nil && errY == nil && reference.TagNameOnly(x).String() == reference.TagNameOnly(y).String()
}
