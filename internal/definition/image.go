package definition

import (
	"context"
	"errors"
	"slices"
	"strings"

	"domicile/internal/fault"
)

// Image is an image that a definition names.
type Image struct {
	Reference string `json:"reference"` // as written, variables replaced
	// Resolved is the same image by digest, from the lock file or a registry; empty: not known.
	Resolved string `json:"resolved,omitempty"`
	Locked   bool   `json:"locked,omitempty"` // Resolved comes from the lock file
	File     string `json:"file"`
	Line     int    `json:"line,omitempty"`
	// Architectures are the processors that it is for, as Go names them; none: not known.
	Architectures []string `json:"architectures,omitempty"`
}

// ImageFacts are what is known of an image without getting it.
type ImageFacts struct {
	Resolved      string   // by digest (name@sha256:…); empty where it is known only locally
	Metadata      []byte   // its label devcontainer.metadata
	Architectures []string // as in Image
}

// Images looks images up, in a registry or where they already are.
type Images interface {
	// Image tells what is known of an image. The error is ErrOffline when that cannot be told
	// without asking a registry.
	Image(ctx context.Context, reference string) (ImageFacts, error)
}

func (r *Report) addImage(i Image) {
	if slices.ContainsFunc(r.Images, func(j Image) bool { return j.Reference == i.Reference }) {
		return
	}
	if r.Locks != nil {
		if l, ok := r.Locks.Images[i.Reference]; ok {
			i.Resolved, i.Locked = l.Resolved, true
		}
	}
	if pinned(i.Reference) {
		i.Resolved = i.Reference
	}
	r.Images = append(r.Images, i)
}

// resolveImages looks up the images that no lock file pins, and returns the metadata
// label of base.
func (r *Report) resolveImages(ctx context.Context, c *checker, base string, o Options) (label []byte) {
	label = o.ImageMetadata
	if o.Images == nil {
		return label
	}
	for i := range r.Images {
		image := &r.Images[i]
		isBase := image.Reference == base && label == nil
		if image.Resolved != "" && !isBase {
			continue
		}
		asked := image.Reference
		if image.Resolved != "" {
			asked = image.Resolved
		}
		found, err := o.Images.Image(ctx, asked)
		if err != nil {
			if !errors.Is(err, ErrOffline) {
				r.tellImage(c, image, err)
			}
			continue
		}
		image.Architectures = found.Architectures
		if image.Resolved == "" {
			image.Resolved = found.Resolved
		}
		if isBase {
			label = found.Metadata
		}
	}
	return label
}

// tellImage warns only: whoever makes the image asks for it again, and waits where the
// registry is away. A registry that nobody may ask is an error.
func (r *Report) tellImage(c *checker, i *Image, err error) {
	p := Problem{Severity: Warning, Code: "image-not-found", File: i.File, Line: i.Line, Column: 1, Message: "cannot look at the image " + i.Reference + ": " + err.Error()}
	if fault.Code(err) == "address-not-asked" {
		p.Severity, p.Code, p.Message, p.Suggestion = Error, "address-not-asked", err.Error(), fault.Remedy(err)
	}
	if m := c.source.Root.Member("image"); m != nil && i.File == r.File {
		at := c.source.Position(m.Value.Offset)
		p.Line, p.Column, p.Path = at.Line, at.Column, "/image"
		p.Excerpt = excerpt(c.source.Line(p.Line))
	}
	r.Problems = append(r.Problems, p)
}

// ImageDigest gives the digest part of name@sha256:…, or "".
func ImageDigest(reference string) string {
	_, digest, _ := strings.Cut(reference, "@")
	return digest
}

// float lists what may change from one day to the next.
func (r *Report) float() {
	for _, i := range r.Images {
		if !i.Locked && !pinned(i.Reference) {
			r.Floating = append(r.Floating, Floating{Kind: "image", Reference: i.Reference, Why: "a tag may be moved; a digest (@sha256:…) may not", File: i.File})
		}
	}
	for _, f := range r.Features {
		ref, err := ParseReference(f.Reference)
		if err != nil || ref.Kind == ReferenceLocal || ref.Digest != "" {
			continue
		}
		if _, locked := r.Locks.Features[f.Reference]; locked {
			continue
		}
		why := "the version " + ref.Tag + " may be published anew, and no lock file pins it"
		if ref.Kind == ReferenceArchive {
			why = "the archive may be replaced, and no lock file pins it"
		}
		if !slices.ContainsFunc(r.Floating, func(o Floating) bool { return o.Reference == f.Reference }) {
			r.Floating = append(r.Floating, Floating{Kind: "feature", Reference: f.Reference, Why: why, File: r.File})
		}
	}
}

// staleLocks tells of pins for what the definition no longer asks for.
func (r *Report) staleLocks() {
	features, images := LockPaths(r.File)
	for _, name := range sortedNames(r.Locks.Features) {
		if !slices.ContainsFunc(r.Features, func(f Feature) bool { return f.Reference == name }) {
			r.Problems = append(r.Problems, Problem{Severity: Note, Code: "stale-lock", File: features, Path: pointer("/features", name),
				Message: "the lock file pins " + name + ", which the definition does not ask for", Suggestion: "domicile check -lock"})
		}
	}
	for _, name := range sortedNames(r.Locks.Images) {
		if !slices.ContainsFunc(r.Images, func(i Image) bool { return i.Reference == name }) {
			r.Problems = append(r.Problems, Problem{Severity: Note, Code: "stale-lock", File: images, Path: pointer("/images", name),
				Message: "the lock file pins " + name + ", which the definition does not ask for", Suggestion: "domicile check -lock"})
		}
	}
}
