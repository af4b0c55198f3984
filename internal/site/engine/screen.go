package engine

import (
	"github.com/docker/docker/api/types/container"

	"domicile/internal/fault"
)

// screenDevices are the devices of a machine's screen, and of what points and types at it.
var screenDevices = []string{"/dev/fb0", "/dev/dri", "/dev/input"}

// giveScreen gives a container the screen of its machine, which is its workspace's alone.
func (s *Site) giveScreen(size string, host *container.HostConfig) error {
	switch {
	case size == "":
		return nil
	case !s.o.Alone:
		return fault.New("no-screen", "choose a site with machines", "the engine %s has no screen to give", s.o.Name)
	}
	for _, name := range screenDevices {
		host.Devices = append(host.Devices, container.DeviceMapping{PathOnHost: name, PathInContainer: name, CgroupPermissions: "rw"})
	}
	return nil
}
