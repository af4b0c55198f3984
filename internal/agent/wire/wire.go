// Package wire is what the service and the agent say to each other beyond plain SSH:
// names of requests and channels under @domicile, and the JSON they carry.
package wire

import (
	"path"
	"time"
)

// Where the agent's things are inside an instance.
const (
	AgentFolder  = "/opt/domicile"                 // the read-only volume with the agent
	AgentPath    = AgentFolder + "/domicile-agent" // its binary
	SocketFolder = "/run/domicile"                 // only root may enter
	SocketPath   = SocketFolder + "/agent.sock"    // where it listens
	TerminalName = "DOMICILE_TERMINAL"             // environment variable of a session: the terminal to make or come back to
)

// Where what is asked of the person's own machine goes inside an instance, while an usher is at work.
const (
	ProgramFolder = AgentFolder + "/bin"            // the read-only folder with the program usher
	UsherFolder   = "/run/domicile-usher"           // everybody may enter
	UsherSocket   = UsherFolder + "/usher.sock"     // the person's alone: wishes
	KeysSocket    = UsherFolder + "/ssh-agent.sock" // the person's alone: their SSH agent
)

// Programs are the names of the agent's binary in ProgramFolder.
var Programs = []string{"usher", "browse"}

// What the person's own usher says to the agent, through the gateway: it is the person's, so its names
// do not end in @domicile.
const (
	Lend      = "lend@usher" // LendRequest -> LendReply: as long as the connection lasts
	WishVisit = "wish@usher" // a channel that the agent opens for each who comes to UsherSocket
	KeysVisit = "keys@usher" // and for each who comes to KeysSocket
)

// LendRequest says what an usher offers.
type LendRequest struct {
	Keys bool `json:"keys"` // the person's SSH agent too
}

// VisitExtra is what the service adds to the channel of a visit (its extra data, as JSON).
type VisitExtra struct {
	// Epoch changes when somebody else was allowed to type in the workspace.
	Epoch string `json:"epoch"`
}

// LendReply says what went wrong, if something did.
type LendReply struct {
	Error string `json:"error,omitempty"`
}

// Global requests. Each carries JSON both ways.
const (
	Hello        = "hello@domicile"         // nothing -> HelloReply
	Configure    = "configure@domicile"     // Session -> SessionReply
	Terminals    = "terminals@domicile"     // nothing -> []Terminal
	Activity     = "activity@domicile"      // nothing -> ActivityReply
	End          = "end@domicile"           // EndRequest -> EndReply
	NoteFiles    = "note-files@domicile"    // FilesRequest -> FilesReply
	RestoreFiles = "restore-files@domicile" // FilesRequest -> FilesReply
	Tell         = "tell@domicile"          // Message -> nothing
	Helpers      = "helpers@domicile"       // HelpersRequest -> HelpersReply
	From         = "from@domicile"          // FromRequest, without an answer
	Door         = "door@domicile"          // DoorRequest -> DoorReply
	As           = "as@domicile"            // AsRequest -> AsReply
	Used         = "used@domicile"          // something passed through what was handed over; without an answer
)

// GuestPort is where the agent of a helper serves who is on its workspace's own network.
const GuestPort = 4322

// BusyVariable marks, set to 1, a process that keeps the workspace from stopping by itself.
const BusyVariable = "DOMICILE_BUSY"

// Channel types. The extra data of the opening is JSON.
const (
	Task = "task@domicile" // TaskRequest; output, then an exit-status request
	// Visit is opened by the agent for each who comes to a door that the service holds open.
	Visit = "visit@domicile"
	// Listening tells, until it is closed, at which ports programs listen: a line of JSON, a
	// ListeningReport, at first and at each change.
	Listening = "listening@domicile" // ListeningRequest
	Unpack    = "unpack@domicile"    // UnpackRequest; a tar archive in, on standard error what went wrong, exit-status
	// Look shows what a terminal prints, without a way to type: a LookRequest; output, LookSize
	// requests, then an exit-status request.
	Look = "look@domicile"
)

// HandOver is what the service asks for alone on a stream: the terminal of a session, to type and to print
// for the person without the agent between. The extra data is a HandOverRequest; what is handed over is the
// terminal's end by which one types, and a pipe to read and to write. Then come eight bytes: how many
// bytes the session's channel has brought of what the terminal prints, after which what is read from the
// terminal goes on. What the service reads it gives back through the stream; what it could not is in the
// pipe. The stream's end is the end of that, whoever ends it.
const HandOver = "hand-over@domicile"

// HandOverRequest says of which session, by a word that the service has said in its channel before in a
// request of the same name, without an answer.
type HandOverRequest struct {
	Word string
	// Typed is how many bytes have been typed through the channel.
	Typed uint64
}

// LookSize is a request in a Look channel: the terminal's size, a WindowSize as SSH marshals it, at first
// and at each change.
const LookSize = "size@domicile"

// LookRequest names the terminal, one that is open.
type LookRequest struct {
	Terminal string `json:"terminal"`
}

// WindowSize is a terminal's size, in characters.
type WindowSize struct{ Columns, Rows uint32 }

// DoorRequest asks that whoever comes to a socket inside is brought to the service, as long as the
// connection lasts.
type DoorRequest struct {
	Socket string `json:"socket"`
}

// DoorReply says what went wrong, if something did.
type DoorReply struct {
	Error string `json:"error,omitempty"`
}

// HelloReply says who answers.
type HelloReply struct {
	Version     string            `json:"version"`
	Environment map[string]string `json:"environment"` // the container's, before any session
	User        string            `json:"user"`        // the account the container runs as
	Configured  bool              `json:"configured"`
}

// Session is how programs run for the person.
type Session struct {
	User      string             `json:"user"`
	Folder    string             `json:"folder"`
	Probe     string             `json:"probe"` // userEnvProbe
	Env       map[string]*string `json:"env"`   // remoteEnv with all variables replaced; nil unsets
	Workspace string             `json:"workspace"`
	Home      string             `json:"home,omitempty"` // the user's home folder, as the agent said
	// GuestKey is the public key, as in an authorized_keys line, of who may come as a guest
	// from the workspace's own network; empty: nobody may.
	GuestKey string `json:"guestKey,omitempty"`
	// Volumes are folders in which named volumes are mounted: an empty one that is root's becomes the user's.
	Volumes []string `json:"volumes,omitempty"`
}

// Histories are the files in which a person's shells and programs remember what was typed.
func (s Session) Histories() (list []string) {
	if s.Home == "" {
		return nil
	}
	for _, name := range []string{".bash_history", ".zsh_history", ".ash_history", ".sh_history", ".local/share/fish/fish_history", ".python_history", ".node_repl_history", ".psql_history", ".sqlite_history", ".lesshst", ".viminfo"} {
		list = append(list, path.Join(s.Home, name))
	}
	return list
}

// FromRequest says where a person's connection comes from and where it arrived, as programs
// inside see it in SSH_CONNECTION.
type FromRequest struct {
	Client string `json:"client"` // host:port
	Server string `json:"server"` // host:port
}

// AsRequest asks that the programs of this connection run as another user of the instance.
type AsRequest struct {
	User string `json:"user"`
}

// AsReply says what went wrong, if something did.
type AsReply struct {
	Error string `json:"error,omitempty"`
}

// EndRequest asks programs to end, by SIGTERM.
type EndRequest struct {
	GraceSeconds float64 `json:"graceSeconds"` // how long they have
	// Everybody means all processes that the agent may signal, else those that it has started.
	Everybody bool `json:"everybody"`
}

// EndReply names the programs that did not end, as "PID COMMAND".
type EndReply struct {
	Survivors []string `json:"survivors,omitempty"`
}

// FilesRequest names the folders whose files are noted before a workspace moves, or restored after that.
type FilesRequest struct {
	Folders []string `json:"folders"`
}

// FilesReply says how many files were noted, and how many could not be restored.
type FilesReply struct {
	Count  int    `json:"count,omitempty"`
	Failed int    `json:"failed,omitempty"`
	Error  string `json:"error,omitempty"`
}

// ActivityReply says whether somebody or something uses the instance.
type ActivityReply struct {
	Idle float64 `json:"idle"`           // seconds since it was last used; 0 while it is
	Busy string  `json:"busy,omitempty"` // what uses it now
}

// Message is a sentence for all open terminals.
type Message struct {
	Text string `json:"text"`
}

// HelpersRequest names the helpers that ssh inside finds by their names.
type HelpersRequest struct {
	Names []string `json:"names"`
	// Addresses are those of helpers whose names the workspace cannot look up, by name.
	Addresses map[string]string `json:"addresses,omitempty"`
	Key       string            `json:"key,omitempty"` // the private key, in PEM, that helpers know their workspace by
}

// HelpersReply says what went wrong, if something did.
type HelpersReply struct {
	Error string `json:"error,omitempty"`
}

// SessionReply says what the agent made of a Session.
type SessionReply struct {
	User    string `json:"user"`
	UID     int    `json:"uid"`
	Home    string `json:"home"`
	Shell   string `json:"shell"`
	Warning string `json:"warning,omitempty"` // the probe failed, the user has no home, …
	Error   string `json:"error,omitempty"`
}

// TaskRequest asks for a command that outlives the connection. A second request with the
// same key attaches to the first one's process, or to its end.
type TaskRequest struct {
	Key   string   `json:"key"`
	Shell string   `json:"shell,omitempty"` // run through /bin/sh -c
	Args  []string `json:"args,omitempty"`  // or without a shell
	// Env are more variables, over the session's.
	Env map[string]string `json:"env,omitempty"`
}

// UnpackRequest asks for an archive to be unpacked as the session's user.
type UnpackRequest struct {
	Target string `json:"target"`
}

// ListeningRequest asks for what listens.
type ListeningRequest struct {
	UDP bool `json:"udp,omitempty"` // datagram sockets too
}

// ListeningReport is all that listens at one moment.
type ListeningReport struct {
	Listeners []Listener `json:"listeners"`
	// More tells that there are more than are told.
	More bool `json:"more,omitempty"`
}

// Listener is a port at which programs wait for connections.
type Listener struct {
	Network   string   `json:"network"` // tcp or udp
	Port      int      `json:"port"`
	Addresses []string `json:"addresses"` // such as 127.0.0.1; 0.0.0.0 and :: are all
	User      string   `json:"user,omitempty"`
	// PID, Process and Command are those of who holds it; 0 and empty where that cannot be seen.
	PID     int    `json:"pid,omitempty"`
	Process string `json:"process,omitempty"`
	Command string `json:"command,omitempty"`
}

// MostListeners is how many listeners a report tells of.
const MostListeners = 2000

// Terminal is a terminal that the agent keeps.
type Terminal struct {
	Name     string    `json:"name"`
	Command  string    `json:"command"` // what runs in its foreground
	Attached int       `json:"attached"`
	Started  time.Time `json:"started"`
}
