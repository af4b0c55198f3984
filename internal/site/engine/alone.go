package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"

	"domicile/internal/judge"
)

// machineNetwork is the network of the machine itself, which a container is on that has the
// machine for itself.
const machineNetwork = "host"

// broughtTag begins the names of images that were brought from another engine: the name that a
// plan has may be one that no engine gives to what it did not pull.
const broughtTag = "domicile-brought:"

// brought is the name of an image that was brought here.
func brought(planned string) string {
	sum := sha256.Sum256([]byte(planned))
	return broughtTag + hex.EncodeToString(sum[:16])
}

// Holding tells the id of an image that a plan names; empty: the engine has it not.
func (s *Site) Holding(ctx context.Context, planned string) (id string, err error) {
	found, err := s.api.ImageInspect(ctx, s.local(planned))
	if isNotFound(err) {
		return "", nil
	}
	return found.ID, s.explain(err, "look for the image "+planned)
}

// Prepare does all that the first workspace would have to wait for: its agent's files are here
// afterwards.
func (s *Site) Prepare(ctx context.Context) error {
	if _, err := s.isLocal(ctx); err != nil { // from here on it is known what the host is
		return err
	}
	id, err := s.trialImage(ctx)
	if err != nil {
		return err
	}
	return s.ensureAgent(ctx, id)
}

// Warm runs a program in a container, once: what an engine does for the first time, it does slowly.
func (s *Site) Warm(ctx context.Context) error {
	image, err := s.trialImage(ctx)
	if err != nil {
		return err
	}
	_, done, err := s.trialProgram(ctx, "first", image, "none", "marked")
	if err == nil {
		done()
	}
	return err
}

// Name gives an image that was brought the name that it was asked for by.
func (s *Site) Name(ctx context.Context, image judge.Image) error {
	return s.explain(s.api.ImageTag(ctx, s.local(image.Name()), image.Name()), "name the image that was brought")
}

// Bring brings an image that a plan names from another engine, which has it by this id.
func (s *Site) Bring(ctx context.Context, from *Site, planned, id string, progress func(string)) error {
	name := s.local(planned)
	there, err := s.api.ImageInspect(ctx, name)
	if err == nil && there.ID == id {
		return nil
	}
	if _, err = s.api.ImageInspect(ctx, id); isNotFound(err) {
		if err := s.bringImage(ctx, from, from.local(planned), progress); err != nil {
			return err
		}
	} else if err != nil {
		return s.explain(err, "look for the image "+planned)
	}
	return s.explain(s.api.ImageTag(ctx, id, name), "name the image that was brought")
}
