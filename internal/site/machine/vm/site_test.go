package vm

import (
	"testing"

	"domicile/internal/scenario/machinetest"
	"domicile/internal/site"
	"domicile/internal/site/machine"
)

// A machine of its own is a place like others. It takes four minutes: scripts/test places runs it.
func TestMachinesAreAPlace(t *testing.T) {
	machinetest.Run(t, "../../../../bin", machine.Options{Kind: site.VM, Maker: newMaker(t, Options{}), Usual: small})
}
