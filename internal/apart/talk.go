package apart

import (
	"domicile/internal/archive"
	"domicile/internal/compose"
	"domicile/internal/definition"
	"domicile/internal/fault"
)

// order is what the process is told: what to read, what it asked for, or the next piece of
// an archive.
type order struct {
	Read   *request `json:"read,omitempty"`
	Answer *answer  `json:"answer,omitempty"`
	Piece  *piece   `json:"piece,omitempty"`
}

// request is what is to be read, or the wish that the process prepares itself for that.
type request struct {
	Warm       bool     `json:"warm,omitempty"`
	Compose    []string `json:"compose,omitempty"` // paths of Compose files
	Definition *wanted  `json:"definition,omitempty"`
	Archive    bool     `json:"archive,omitempty"` // its bytes follow
}

// message is what the process says: that it is prepared, what it asks, or what it has read.
type message struct {
	Ready bool      `json:"ready,omitempty"`
	Ask   *question `json:"ask,omitempty"`
	// Of an archive: an entry, whose content follows in pieces.
	Entry *archive.Entry `json:"entry,omitempty"`
	Piece []byte         `json:"piece,omitempty"`
	Done  *done          `json:"done,omitempty"`
}

type done struct {
	Compose    *compose.Reading    `json:"compose,omitempty"`
	Definition *definition.Reading `json:"definition,omitempty"`
	Wrong      string              `json:"wrong,omitempty"` // why an archive could not be read
}

// piece is some of an archive's bytes; none: it has ended.
type piece struct {
	Bytes []byte `json:"bytes,omitempty"`
}

// pieceSize is the most that a piece has, in bytes.
const pieceSize = 256 << 10

// The kinds of questions.
const (
	askStat    = "stat"    // what is at a path
	askRead    = "read"    // the bytes of a file
	askList    = "list"    // the entries of a folder
	askTree    = "tree"    // the digest of a folder
	askContext = "context" // the digest of a build's context
	askFeature = "feature" // a feature that is not in the repository
	askImage   = "image"   // an image by digest, with its label
)

// repositorySystem is the file system of the repository; a fetched feature gets a number of its own.
const repositorySystem = 1

type question struct {
	ID      int      `json:"id"`
	Kind    string   `json:"kind"`
	System  int      `json:"system,omitempty"`
	Name    string   `json:"name,omitempty"`   // a path; the reference of a feature or image
	Digest  string   `json:"digest,omitempty"` // what a lock file says that of a feature is
	Counted []string `json:"counted,omitempty"`
	Ignored []string `json:"ignored,omitempty"`
}

// dear tells whether its answer takes more than a look.
func (q *question) dear() bool {
	return q.Kind == askTree || q.Kind == askContext || q.Kind == askFeature || q.Kind == askImage
}

type answer struct {
	ID      int     `json:"id"`
	Bytes   []byte  `json:"bytes,omitempty"`
	Entries []entry `json:"entries,omitempty"` // of askStat, one
	Text    string  `json:"text,omitempty"`    // a digest; the resolved name of an image
	// Architectures are those of an image.
	Architectures []string             `json:"architectures,omitempty"`
	System        int                  `json:"system,omitempty"`
	None          bool                 `json:"none,omitempty"` // there is no such file
	Offline       bool                 `json:"offline,omitempty"`
	Mismatch      *definition.Mismatch `json:"mismatch,omitempty"`
	Fault         *fault.Fault         `json:"fault,omitempty"`
	Wrong         string               `json:"wrong,omitempty"` // any other error
}

type entry struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
	Mode uint32 `json:"mode"`
}

// wanted is a definition that is to be read.
type wanted struct {
	File        string            `json:"file,omitempty"`
	Folder      string            `json:"folder"`
	IgnoreLocks bool              `json:"ignoreLocks,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`

	Variations []definition.Variation `json:"variations,omitempty"`
}
