// Package definition reads an open dev container definition: it finds the file, keeps
// the place of every value in the text, checks each property against the standard,
// replaces variables, merges the metadata of image and features, and reports what it
// found in words that lead to the line to mend.
//
// The package does no I/O of its own: files come from an fs.FS, the environment from a
// function. What it returns is a Report, which is data and can be stored.
package definition
