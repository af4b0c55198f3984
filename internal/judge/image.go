package judge

import (
	"regexp"
	"slices"
	"strings"

	"github.com/distribution/reference"
)

// reserved begins the names of the images that Domicile makes. They hold files of
// repositories and people, so only a plan of Domicile's own ever names one.
const reserved = "domicile"

// Image is the name of an image that was judged. There is no other way to make one than
// the rules of this package; the zero Image names nothing and no site takes it.
type Image struct {
	name string
	made bool
}

// Name is the image's whole name, as it goes to an engine: registry, repository, and tag or
// digest. An engine takes a name that is written so for a name and never for an image's id.
func (i Image) Name() string { return i.name }

// Made tells that Domicile made the image at the site: it is not pulled.
func (i Image) Made() bool { return i.made }

// Registry is the host, with its port where it has one, that the image is pulled from.
func (i Image) Registry() string {
	named, err := reference.ParseNormalizedNamed(i.name)
	if err != nil {
		return ""
	}
	return reference.Domain(named)
}

// Remedies of refused images.
const (
	writeImage   = "write image as registry/name:tag"
	anotherImage = "name an image of a registry; a colleague hands a state over with domicile snapshots hand"
)

// Pulled judges an image that a registry is to give: any name but those that Domicile
// keeps for what it makes itself, and never an engine's own id of an image.
func (j *Judge) Pulled(place, name string) Image {
	named, err := reference.ParseNormalizedNamed(name)
	if err != nil || hexID.MatchString(name) {
		j.RefuseFor(writeImage, place, "%q is no name of an image", name)
		return Image{}
	}
	if host := reference.Domain(named); host != strings.ToLower(host) {
		j.RefuseFor("write the registry's host in small letters", place, "%q names the registry %s: hosts that differ in nothing but their letters are one", name, host)
		return Image{}
	}
	if ofOurs(named) {
		j.RefuseFor(anotherImage, place, "the image %s has a name that Domicile keeps for the images that it makes", name)
		return Image{}
	}
	named = reference.TagNameOnly(named)
	if digested, is := named.(reference.Digested); is { // an engine looks a digest up without its tag
		if named, err = reference.WithDigest(reference.TrimNamed(named), digested.Digest()); err != nil {
			j.RefuseFor(writeImage, place, "%q is no name of an image", name)
			return Image{}
		}
	}
	return Image{name: named.String()}
}

// Image judges an image that a plan names: one that Domicile made for this subject, or one
// that a registry gives.
func (j *Judge) Image(place, name string) Image {
	if slices.Contains(j.Images, name) {
		return Image{name: name, made: true}
	}
	return j.Pulled(place, name)
}

// hexID is what an engine could take for the id of an image, or its beginning.
var hexID = regexp.MustCompile(`^(sha256:)?[0-9a-fA-F]{64}$`)

// ofOurs tells of a repository whose last part begins as Domicile's own names do, on the
// engine itself or under the names that it takes for its usual registry.
func ofOurs(named reference.Named) bool {
	path := reference.Path(named)
	first, _, _ := strings.Cut(path, "/")
	if first == "library" {
		_, first, _ = strings.Cut(path, "/")
	}
	usual := reference.Domain(named) == "docker.io"
	return usual && strings.HasPrefix(first, reserved)
}
