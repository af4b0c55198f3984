package site

import (
	"cmp"
	"io/fs"
	"time"

	"domicile/internal/plan"
	"domicile/internal/recipe"
)

// Facts is what was found when a place was examined.
type Facts struct {
	Engine        string // name and version of what runs the instances
	System        string // operating system and processor kind
	Architecture  string // of its processors, as the system names it: x86_64, aarch64; empty: not known
	Processors    int
	MemoryBytes   int64
	DiskFreeBytes int64 // 0: not known
	GPU           bool  // instances can be given a graphics processor
	Elsewhere     bool  // it has other files than the service's machine
	// DataFolder is where the engine keeps its data, in its own words.
	DataFolder string
	// Devices are the devices of its host by their paths, and the folders they are in; nil: not
	// known.
	Devices []string
	// UserNamespaces tells that root of an instance is nobody on the host.
	UserNamespaces bool
	// Sizes are those that instances can have there, with their prices, where the place says so.
	Sizes []plan.Size
	// Joined tells that workspaces can reach each other's networks, which they must not;
	// empty: they cannot, or it is not known.
	Joined string
}

// Service is a service beside a workspace, as it is now.
type Service struct {
	Name     string
	Image    string
	Running  bool
	Started  bool   // it ran at least once
	Health   string // starting, healthy or unhealthy; empty: it has no check
	ExitCode int    // of its last end, as Compose files speak of it
	// Interrupted tells that it does not run, and was ended from outside.
	Interrupted bool
}

// Leftover is something that Domicile made and nothing uses any more.
type Leftover struct {
	Kind  string // image, container, volume or network
	Name  string
	Bytes int64 // what becomes free at least; 0: not known
	Why   string
	// Again tells that it is made again where it is wanted, Made when it came to be here.
	Again bool
	Made  time.Time
}

// Instance is what holds a workspace at a site.
type Instance struct {
	Workspace string
	Running   bool
	Digest    string // of the container it was made from
	Ended     string // how it ended, in the site's words, where it does not run
	// Fell tells that what it is in ended, and not itself: it can be started again.
	Fell bool
	// CutOff says why one that runs must be started anew: what joined it to the service, or to a network,
	// is gone for good. Empty: nothing is.
	CutOff string
	// Services are those beside it, in a list of instances.
	Services []Service
}

// Saved is a snapshot that was kept.
type Saved struct {
	Images map[string]string // by service; the workspace's own under the empty name
	Bytes  int64             // what it takes beyond the images it was made from
}

// Build is an image to build and what it is built from.
type Build struct {
	Recipe plan.Judged[recipe.Recipe]
	// Source is the folder of the service's host with the repository's files.
	Source string
	// Features are the files of the recipe's layers, in their order.
	Features []fs.FS
	// Secrets are what RUN --mount=type=secret may read, by name.
	Secrets map[string]string
}

// Image is an image as a site has it.
type Image struct {
	ID       string `json:"id"`
	User     string `json:"user"`               // who its programs run as; empty: root
	Metadata string `json:"metadata,omitempty"` // its label devcontainer.metadata
	Fetched  bool   `json:"fetched"`            // it was not there before
}

// machines are processors as systems name them, by Go's names.
var machines = map[string]string{"x86_64": "amd64", "aarch64": "arm64"}

// GoArchitecture is an architecture as Go names it.
func GoArchitecture(system string) string { return cmp.Or(machines[system], system) }
