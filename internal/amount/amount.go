// Package amount writes amounts of data for people, the same everywhere: a GB is 1024 MB, an
// MB 1024 kB, as definitions mean them (definition.ParseAmount), for memory and disks alike.
package amount

import "github.com/docker/go-units"

var names = []string{"B", "kB", "MB", "GB", "TB", "PB"}

// Of writes an amount of bytes with up to four digits, such as "1.863 GB".
func Of(bytes int64) string { return units.CustomSize("%.4g %s", float64(bytes), 1024, names) }
