//go:build linux && !client

package main

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/scenario/machinetest"
	"domicile/internal/site"
	"domicile/internal/site/machine"
	standin "domicile/internal/standin/cloud"
)

// Rented instances are a place like others. It takes minutes: scripts/test places runs it.
func TestRentedInstancesAreAPlace(t *testing.T) {
	folder := t.TempDir()
	image := filepath.Join(folder, "image")
	out, err := exec.CommandContext(t.Context(), "../../scripts/machine-image", image).CombinedOutput()
	require.NoError(t, err, string(out))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	instances, err := os.MkdirTemp("", "dmcl-") // whose path is short
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(instances) })
	machines, err := standin.NewMachines(instances, image, []string{l.Addr().String()}, t.Logf)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, machines.Close()) })
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	c := newChandleryAt(t, standin.Options{Quota: 9, Computers: machines, Disks: filepath.Join(folder, "disks")}, l, net.JoinHostPort("10.0.2.2", port))
	machinetest.Run(t, "../../bin", machine.Options{Kind: site.Cloud, Maker: c.maker, Usual: machine.Shape{Processors: 1}, Folder: folder})
}
