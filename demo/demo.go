// Package demo is the demo's data: the repositories, features and templates of Skerry, a
// small ferry line.
package demo

import (
	"embed"
	"io/fs"
	"strings"
)

//go:embed all:repositories all:features all:templates
var files embed.FS

// Names are the names of the repositories. The tide sensor's has no definition yet.
var Names = []string{"timetable", "fares", "quayboard", "tidesensor", "pierboard"}

// Repository gives a repository's files.
func Repository(name string) (fs.FS, error) { return fs.Sub(files, "repositories/"+name) }

// Features and Templates give a folder for each feature and each template.
func Features() (fs.FS, error)  { return fs.Sub(files, "features") }
func Templates() (fs.FS, error) { return fs.Sub(files, "templates") }

// Replace puts the registry's address, which is known at start only, into a file.
func Replace(registry string) func(string) string {
	return strings.NewReplacer("registry.skerry.test", registry).Replace
}
