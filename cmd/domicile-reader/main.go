// Command domicile-reader reads untrusted text for the service, in a process that has
// nothing: see package apart. It is a program of its own because it is started often, and
// what the service prepares at its start takes longer than a reading.
package main

import (
	"fmt"
	"os"

	"domicile/internal/apart"
)

func main() {
	if os.Args[0] != apart.Left {
		fmt.Fprintln(os.Stderr, "domicile-reader: the service starts this program itself")
		os.Exit(2)
	}
	os.Exit(apart.Main())
}
