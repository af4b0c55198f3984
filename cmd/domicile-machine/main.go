// Domicile-machine is the first process of a virtual machine that holds a workspace.
package main

import (
	"fmt"
	"os"

	"domicile/internal/firstprocess"
)

func main() {
	if os.Getpid() != 1 {
		fmt.Fprintln(os.Stderr, "domicile-machine is the first process of a machine, and runs nowhere else")
		os.Exit(2)
	}
	firstprocess.Run()
}
