package firstprocess

import (
	"fmt"
	"os"
	"os/exec"
	"time"
)

// engineSocket is where the machine's engine listens.
const engineSocket = "/run/docker.sock"

// again is how long it takes until what ended is started again.
const again = time.Second

// containerdSettings leave out what a workspace's engine does not use: starting is what a
// machine waits for.
const containerdSettings = `version = 2
disabled_plugins = ["io.containerd.grpc.v1.cri", "io.containerd.snapshotter.v1.btrfs", "io.containerd.snapshotter.v1.devmapper", "io.containerd.snapshotter.v1.zfs", "io.containerd.snapshotter.v1.aufs", "io.containerd.internal.v1.opt", "io.containerd.tracing.processor.v1.otlp", "io.containerd.internal.v1.tracing"]
`

// keepEngine starts the engine, both its processes side by side, and again when one has ended.
func keepEngine() {
	if err := os.MkdirAll("/etc/containerd", 0o755); err != nil {
		say("%v", err)
	}
	if err := os.WriteFile("/etc/containerd/config.toml", []byte(containerdSettings), 0o644); err != nil {
		say("%v", err)
	}
	go keep("containerd", "--log-level", "warn")
	keep("dockerd", "--host", "unix://"+engineSocket, "--containerd", "/run/containerd/containerd.sock", "--storage-driver", "overlay2", "--userland-proxy=false", "--ip6tables=false",
		"--add-runtime", "crun=/usr/bin/crun", "--default-runtime", "crun", "--log-level", "warn")
}

func keep(name string, args ...string) {
	for {
		c := exec.Command(name, args...)
		log, err := os.OpenFile("/var/log/"+name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
		if err == nil {
			c.Stdout, c.Stderr = log, log
			err = c.Run()
			log.Close()
		}
		say("%s ended: %v%s", name, err, lastOf("/var/log/"+name))
		time.Sleep(again)
	}
}

// mostTold is how much of a log is told when its program has ended.
const mostTold = 400

func lastOf(file string) string {
	b, err := os.ReadFile(file)
	if err != nil || len(b) == 0 {
		return ""
	}
	return fmt.Sprintf(": %q", b[max(0, len(b)-mostTold):])
}
