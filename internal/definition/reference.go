package definition

import (
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"
)

// The kinds of feature references (the standard's "Referencing a feature").
const (
	ReferenceOCI     = "oci"     // registry/namespace/id[:version|@sha256:…]
	ReferenceArchive = "archive" // https://…/devcontainer-feature-<id>.tgz
	ReferenceLocal   = "local"   // ./name, relative to the definition's folder
)

// Reference names a feature or a template.
type Reference struct {
	Kind    string
	Written string // as it stands in the definition
	// Name is the full name without version: registry/namespace/id, the address, or ./name.
	Name   string
	ID     string // the last part of Name, as far as it can be told from the reference
	Tag    string // OCI: as written, "latest" where nothing is; empty with a digest
	Digest string // OCI: sha256:… where the reference is pinned
}

var (
	ociName    = regexp.MustCompile(`^[a-z0-9]+(?:(?:[._]|__|-+)[a-z0-9]+)*$`)
	ociHost    = regexp.MustCompile(`^(?:[A-Za-z0-9-]+\.)*[A-Za-z0-9-]+(?::[0-9]{1,5})?$|^\[[0-9a-fA-F:]+\](?::[0-9]{1,5})?$`)
	ociTag     = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]{0,127}$`)
	sha256Text = regexp.MustCompile(`^sha256:[0-9a-f]{64}$`)
	archiveID  = regexp.MustCompile(`^devcontainer-feature-([A-Za-z0-9._-]+)\.tgz$`)
)

// ParseReference reads a reference of any of the three kinds. Its error says what is
// wrong in words that complete "… is no feature reference: ".
func ParseReference(s string) (Reference, error) {
	switch {
	case s == "":
		return Reference{}, fmt.Errorf("it is empty")
	case len(s) > 1024:
		return Reference{}, fmt.Errorf("it is longer than 1024 characters")
	case strings.HasPrefix(s, "./") || strings.HasPrefix(s, "../"):
		name := path.Clean(s)
		if name == "." || name == ".." {
			return Reference{}, fmt.Errorf("it names no folder of its own")
		}
		if !strings.HasPrefix(name, "../") {
			name = "./" + name
		}
		return Reference{Kind: ReferenceLocal, Written: s, Name: name, ID: path.Base(name)}, nil
	case strings.Contains(s, "://"):
		return parseArchive(s)
	case path.IsAbs(s):
		return Reference{}, fmt.Errorf("an absolute path is not allowed; a feature of the repository is named ./name")
	}
	return ParseOCI(s)
}

func parseArchive(s string) (Reference, error) {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" {
		return Reference{}, fmt.Errorf("it is no address")
	}
	if u.Scheme != "https" {
		return Reference{}, fmt.Errorf("an archive is fetched over https only, not %s", u.Scheme)
	}
	m := archiveID.FindStringSubmatch(path.Base(u.Path))
	if m == nil {
		return Reference{}, fmt.Errorf("an archive's address ends in devcontainer-feature-<id>.tgz")
	}
	return Reference{Kind: ReferenceArchive, Written: s, Name: s, ID: m[1]}, nil
}

// ParseOCI reads registry/namespace/id[:version|@sha256:…].
func ParseOCI(s string) (Reference, error) {
	r := Reference{Kind: ReferenceOCI, Written: s, Name: s}
	if at := strings.IndexByte(s, '@'); at >= 0 {
		r.Name, r.Digest = s[:at], s[at+1:]
		if !sha256Text.MatchString(r.Digest) {
			return r, fmt.Errorf("behind @ there must be sha256: and 64 hexadecimal digits")
		}
	}
	host, rest, found := strings.Cut(r.Name, "/")
	if colon := strings.LastIndexByte(rest, ':'); colon >= 0 {
		rest, r.Tag = rest[:colon], rest[colon+1:]
		r.Name = host + "/" + rest
		if !ociTag.MatchString(r.Tag) {
			return r, fmt.Errorf("%q is no version", r.Tag)
		}
	}
	if !found || !strings.ContainsAny(host, ".:") && host != "localhost" {
		return r, fmt.Errorf("it names no registry; registry/namespace/id is wanted, or ./name for a folder beside the definition")
	}
	if !ociHost.MatchString(host) {
		return r, fmt.Errorf("%q is no registry", host)
	}
	parts := strings.Split(rest, "/")
	for _, part := range parts {
		if !ociName.MatchString(part) {
			return r, fmt.Errorf("%q cannot be part of a name in a registry: lower-case letters, digits and . _ - are wanted", part)
		}
	}
	r.ID = parts[len(parts)-1]
	if r.Tag == "" && r.Digest == "" {
		r.Tag = "latest"
	}
	if r.Digest != "" {
		r.Tag = ""
	}
	return r, nil
}

// namespace is what stands before the id in an OCI name.
func (r Reference) namespace() string { return strings.TrimSuffix(r.Name, r.ID) }

// withoutVersion gives a reference's full name, as overrideFeatureInstallOrder and
// installsAfter name features. A version that stands there all the same is left out.
func withoutVersion(s string) string {
	if r, err := ParseReference(s); err == nil {
		return r.Name
	}
	return s
}
