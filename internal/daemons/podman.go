package daemons

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"domicile/internal/fault"
)

// Podman is a second kind of container engine of our own, which offers the same API.
type Podman struct {
	Host   string // unix://…
	folder string
	daemon *daemon
}

// StartPodman starts Podman's service with its data and socket below folder. Registries are
// those that speak plain HTTP.
func StartPodman(ctx context.Context, folder string, registries ...string) (*Podman, error) {
	p := &Podman{folder: filepath.Join(folder, "podman")}
	in := func(name string) string { return filepath.Join(p.folder, name) }
	p.Host = "unix://" + in("podman.sock")
	program, err := exec.LookPath("podman")
	if err != nil {
		return nil, fault.Wrap(err, "no-engine", "apt-get install --no-install-recommends podman runc netavark aardvark-dns", "Podman is not installed")
	}
	plain := ""
	for _, r := range registries {
		plain += fmt.Sprintf("[[registry]]\nlocation = %q\ninsecure = true\n", r)
	}
	for name, text := range map[string]string{
		"registries.conf": plain,
		"storage.conf":    fmt.Sprintf("[storage]\ndriver = \"overlay\"\ngraphroot = %q\nrunroot = %q\n", in("data"), in("run")),
		"containers.conf": fmt.Sprintf("[engine]\ncgroup_manager = \"cgroupfs\"\nruntime = \"runc\"\nevents_logger = \"file\"\ntmp_dir = %q\n[containers]\nlog_driver = \"k8s-file\"\n[network]\nnetwork_backend = \"netavark\"\nnetwork_config_dir = %q\n", in("tmp"), in("networks")),
	} {
		if err := errors.Join(os.MkdirAll(p.folder, 0o711), os.WriteFile(in(name), []byte(text), 0o600)); err != nil {
			return nil, err
		}
	}
	cmd := exec.Command(program, "system", "service", "--time", "0", p.Host)
	cmd.Env = append(os.Environ(), "CONTAINERS_CONF="+in("containers.conf"), "CONTAINERS_STORAGE_CONF="+in("storage.conf"), "CONTAINERS_REGISTRIES_CONF="+in("registries.conf"))
	forward(ctx, "-I")
	p.daemon, err = start(ctx, p.folder, "podman", cmd, func(ctx context.Context) error {
		if !EngineAnswers(ctx, p.Host) {
			return errors.New("no answer yet")
		}
		return nil
	})
	return p, err
}

// forwarding are the programs by which the packet filter of this machine may be kept.
var forwarding = []string{"iptables", "iptables-legacy"}

// forward lets programs on one network of the service's reach each other, or no more. Another
// engine of this machine that has turned forwarding on has everything dropped that it does not
// know, also between the ports of one bridge.
func forward(ctx context.Context, change string) {
	for _, program := range forwarding { // one that is not there has no rules
		_ = exec.CommandContext(ctx, program, "-w", change, "FORWARD", "-i", ownDevices, "-o", ownDevices, "-j", "ACCEPT").Run()
	}
}

// ownDevices are the devices of the networks that the service makes at Podman; those of two
// networks are kept apart by its own rules.
const ownDevices = "dmpd+"

// Close removes the containers, which would outlive the service, and stops it.
func (p *Podman) Close() {
	var list []struct{ ID string }
	_ = ask(context.Background(), p.Host, http.MethodGet, "/containers/json?all=1", &list) // none where it does not answer
	for _, c := range list {
		_ = ask(context.Background(), p.Host, http.MethodDelete, "/containers/"+c.ID+"?force=1&v=1", nil)
	}
	p.daemon.stop(syscall.SIGTERM)
	forward(context.Background(), "-D")
	_ = unix.Unmount(filepath.Join(p.folder, "data", "overlay"), unix.MNT_DETACH) // which it mounts on itself
}
