package channel

import "regexp"

// anID is what ids of workspaces look like.
var anID = regexp.MustCompile(`^[a-z][0-9]{1,18}$`)

// IsID tells whether a text may be the id of a workspace: they become names of folders, and tags.
func IsID(text string) bool { return anID.MatchString(text) }

// The words that a machine understands, with which streams are opened.
const (
	ToEngine = "engine" // a stream to the engine's socket
	ToWake   = "wake"   // a Waking, answered by the line Awake, or by what went wrong
	ToOff    = "off"    // turns the machine off, when all is written
	ToDisk   = "disk"   // has all that was written be on the disks, answered by the line OnDisk
	ToLayer  = "layer"  // the parts of a layer as JSON (package layer), answered by the layer and its end
	ToAgent  = "agent"  // and the id of a workspace, behind a space: a stream to the agent of its container
	ToFirst  = "first"  // the first-boot data of a rented instance, answered by the line Taken, or by what went wrong
)

// AgentFolder is the folder of a machine in which each container has a folder of its workspace's id,
// where its agent listens. Whoever is root in the container writes there.
const AgentFolder = "/run/domicile-agents"

// Taken answers a FirstBoot.
const Taken = "taken\n"

// OnDisk answers when all that was written is on the disks.
const OnDisk = "on disk\n"

// Awake answers a Waking.
const Awake = "awake\n"
