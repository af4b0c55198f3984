// Package recipe says how the image of a workspace is made, as pure data: what it starts
// from, one layer for each feature, and the label with its metadata. The digest of a
// recipe is over all that goes into the image, so that two workspaces of one definition
// share it.
package recipe

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"domicile/internal/definition"
)

// MetadataLabel is the standard's label of an image's metadata.
const MetadataLabel = "devcontainer.metadata"

// Recipe is how an image is made.
type Recipe struct {
	// Base is the image it starts from; empty where Dockerfile is set.
	Base       string      `json:"base,omitempty"`
	Dockerfile *Dockerfile `json:"dockerfile,omitempty"`
	// Pins give images as written a digest.
	Pins   map[string]string `json:"pins,omitempty"`
	Layers []Layer           `json:"layers,omitempty"`
	// RemoteUser and ContainerUser are told to the features' scripts; empty: the base's.
	RemoteUser    string `json:"remoteUser,omitempty"`
	ContainerUser string `json:"containerUser,omitempty"`
	// Metadata are the entries that are added to the base image's label.
	Metadata []json.RawMessage `json:"metadata,omitempty"`
	// User gives the remote user other numbers, as the last layer.
	User *UserUpdate `json:"user,omitempty"`
	// Account is whose secrets or caches the build uses: nobody else may have the image. 0:
	// it is made from what everybody has who has the same recipe.
	Account int64  `json:"account,omitempty"`
	Digest  string `json:"digest"`
}

// Dockerfile is a build from a Dockerfile; paths are relative to the repository.
type Dockerfile struct {
	Path      string            `json:"path"`
	Context   string            `json:"context"`
	Args      map[string]string `json:"args,omitempty"`
	Target    string            `json:"target,omitempty"`
	CacheFrom []string          `json:"cacheFrom,omitempty"`
	// Inline is its text where no file has it; Contexts are further folders and images that
	// it names (definition.Build).
	Inline    string            `json:"inline,omitempty"`
	Contexts  map[string]string `json:"contexts,omitempty"`
	Labels    map[string]string `json:"labels,omitempty"`
	Hosts     []string          `json:"hosts,omitempty"` // name:address
	NoNetwork bool              `json:"noNetwork,omitempty"`
	NoCache   bool              `json:"noCache,omitempty"`
	Secrets   []string          `json:"secrets,omitempty"` // names of secrets that RUN --mount=type=secret may read
	// Caches tells that its steps keep caches between builds.
	Caches bool `json:"caches,omitempty"`
	// Content is the digest of the Dockerfile and its context.
	Content string `json:"content"`
}

// Layer is what one feature adds.
type Layer struct {
	Reference string                `json:"reference"`
	Digest    string                `json:"digest"`
	Title     string                `json:"title"`
	Env       []definition.Variable `json:"env,omitempty"`     // part of the image from before its script
	Options   map[string]string     `json:"options,omitempty"` // variables of the script alone
}

// TagPrefix begins the names of images that are built from recipes.
const TagPrefix = "domicile-image:"

// Tag names the image by its digest.
func (r *Recipe) Tag() string { return TagPrefix + r.Digest }

// Make writes the recipe of a definition; nil where the image is used as it is.
func Make(r *definition.Report) (*Recipe, error) {
	e := r.Effective
	recipe := &Recipe{Metadata: r.Metadata, RemoteUser: e.RemoteUser, ContainerUser: e.ContainerUser, Pins: pins(r)}
	switch r.Kind {
	case definition.KindImage:
		if len(r.Features) == 0 {
			return nil, nil
		}
		recipe.Base = e.Image
	case definition.KindDockerfile:
		d, err := dockerfile(e.Build, r)
		if err != nil {
			return nil, err
		}
		recipe.Dockerfile = d
	case definition.KindCompose:
		i := slices.IndexFunc(r.Services, func(s definition.ComposeService) bool { return s.Name == e.Service })
		if i < 0 {
			return nil, fmt.Errorf("the Compose files have no service %q", e.Service)
		}
		s := r.Services[i]
		recipe.ContainerUser = cmp.Or(recipe.ContainerUser, s.User)
		if s.Build == nil {
			if len(r.Features) == 0 {
				return nil, nil
			}
			recipe.Base = s.Image
		} else {
			d, err := dockerfile(s.Build, r)
			if err != nil {
				return nil, err
			}
			recipe.Dockerfile = d
		}
	}
	for _, f := range r.Features {
		recipe.Layers = append(recipe.Layers, Layer{Reference: f.Reference, Digest: f.Digest, Title: f.ID + " " + f.Version, Env: f.ContainerEnv, Options: f.Env})
	}
	return recipe.sealed(), nil
}

// Plain is the recipe of a build without features: that of another service.
func Plain(r *definition.Report, b *definition.Build) (*Recipe, error) {
	d, err := dockerfile(b, r)
	if err != nil {
		return nil, err
	}
	return (&Recipe{Dockerfile: d, Pins: pins(r)}).sealed(), nil
}

func pins(r *definition.Report) map[string]string {
	pins := map[string]string{}
	for _, i := range r.Images {
		if i.Resolved != "" && i.Resolved != i.Reference {
			pins[i.Reference] = i.Resolved
		}
	}
	return pins
}

func (r *Recipe) sealed() *Recipe {
	r.Digest = ""
	b, err := json.Marshal(r) // plain data always encodes
	if err != nil {
		panic(fmt.Sprintf("seal recipe: %v", err))
	}
	sum := sha256.Sum256(b)
	r.Digest = hex.EncodeToString(sum[:12])
	return r
}

func dockerfile(b *definition.Build, r *definition.Report) (*Dockerfile, error) {
	d := &Dockerfile{Path: b.Dockerfile, Context: b.Context, Args: b.Args, Target: b.Target, CacheFrom: b.CacheFrom, Inline: b.Inline, Contexts: b.Contexts, Caches: r.KeepsCaches(b), Content: r.InputDigest(b)}
	return d, d.options(b.Options)
}

// options maps build.options one by one; what has no equivalent is refused by name.
func (d *Dockerfile) options(list []string) error {
	for i := 0; i < len(list); i++ {
		name, value, has := strings.Cut(list[i], "=")
		if !has && i+1 < len(list) && takesValue[name] {
			i++
			value = list[i]
		}
		if err := d.option(name, value); err != nil {
			return err
		}
	}
	return nil
}

var takesValue = map[string]bool{"--label": true, "--add-host": true, "--network": true, "--build-arg": true, "--target": true, "--cache-from": true, "--progress": true, "--secret": true}

// ErrOption is an option of build.options that is not carried out.
type ErrOption struct{ Option, Reason string }

func (e *ErrOption) Error() string { return fmt.Sprintf("the build option %s %s", e.Option, e.Reason) }

func (d *Dockerfile) option(name, value string) error {
	set := func(m *map[string]string) {
		if *m == nil {
			*m = map[string]string{}
		}
		k, v, _ := strings.Cut(value, "=")
		(*m)[k] = v
	}
	switch name {
	case "--label":
		set(&d.Labels)
	case "--build-arg":
		set(&d.Args)
	case "--add-host":
		d.Hosts = append(d.Hosts, value)
	case "--target":
		d.Target = value
	case "--cache-from":
		d.CacheFrom = append(d.CacheFrom, value)
	case "--secret":
		id := ""
		for part := range strings.SplitSeq(value, ",") {
			key, v, _ := strings.Cut(part, "=")
			switch {
			case key == "id":
				id = v
			case key == "type" && v == "env", key == "env":
				// Where a secret comes from is its owner's to say: domicile secrets.
			default:
				return &ErrOption{"--secret " + value, "names a file of the host; give its id alone"}
			}
		}
		if id == "" {
			return &ErrOption{"--secret " + value, "has no id"}
		}
		d.Secrets = append(d.Secrets, id)
	case "--no-cache":
		d.NoCache = true
	case "--pull", "--progress", "--quiet", "-q":
		// how it is shown, and where images come from, is Domicile's
	case "--network":
		switch value {
		case "none":
			d.NoNetwork = true
		case "default", "bridge":
		default:
			return &ErrOption{name + "=" + value, "would give the build another network of the host"}
		}
	default:
		return &ErrOption{name, "has no equivalent"}
	}
	return nil
}

var reference = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}|\$([A-Za-z_][A-Za-z0-9_]*)`)

// Expand replaces references to variables of the image, such as ${PATH}, as an image's
// ENV does.
func Expand(value string, env map[string]string) string {
	return reference.ReplaceAllStringFunc(value, func(s string) string { return env[strings.Trim(s, "${}")] })
}

// Label joins the base image's label and what the recipe adds.
func Label(base string, added []json.RawMessage) (string, error) {
	var list []json.RawMessage
	if base = strings.TrimSpace(base); base != "" {
		if strings.HasPrefix(base, "{") {
			base = "[" + base + "]"
		}
		if err := json.Unmarshal([]byte(base), &list); err != nil {
			return "", fmt.Errorf("the base image's label %s is no JSON: %w", MetadataLabel, err)
		}
	}
	b, err := json.Marshal(append(list, added...))
	return string(b), err
}

// Inside tells whether a path of a recipe stays in the repository.
func Inside(p string) bool {
	p = path.Clean(p)
	return !path.IsAbs(p) && p != ".." && !strings.HasPrefix(p, "../")
}
