package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"domicile/internal/fault"
)

// unitName is the usher's among the services of a user.
const unitName = "domicile-usher.service"

// unit is where the user's systemd finds it.
func unit() (string, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find the folder for settings: %w", err)
	}
	return filepath.Join(folder, "systemd", "user", unitName), nil
}

// install has systemd start the usher for this user, now and at each sign-in to this machine.
func (h *hall) install(ctx context.Context, t *terminal) error {
	if _, err := service(); err != nil { // else it would start and end again and again
		return err
	}
	if runtime.GOOS != "linux" {
		return fault.New("no-systemd", "have your session start it: \""+strings.Join([]string{h.ssh.Pipe[0], "usher", "-suffix", h.ssh.Suffix}, "\" \"")+"\"", "this system has no systemd to keep the usher at work")
	}
	file, err := unit()
	if err != nil {
		return err
	}
	me := h.ssh.Pipe[0]
	for _, path := range []string{me, h.login, h.ssh.File, h.ssh.Suffix} {
		if strings.ContainsAny(path, "\"\\\n%$") {
			return fault.New("bad-path", "move it to a folder without quotation marks, backslashes, % and $ in its name", "%q cannot be said in a unit of systemd", path)
		}
	}
	text := fmt.Sprintf(`# Written by domicile usher -install; domicile usher -uninstall takes it away.
[Unit]
Description=Addresses and ports of Domicile's workspaces

[Service]
Environment="DOMICILE_LOGIN_FILE=%s"
ExecStart="%s" usher -suffix "%s" -ssh-config "%s"
Restart=on-failure
RestartSec=5

[Install]
WantedBy=default.target
`, h.login, me, h.ssh.Suffix, h.ssh.File)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fmt.Errorf("write the unit: %w", err)
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return fmt.Errorf("write the unit: %w", err)
	}
	err = systemctl(ctx, "daemon-reload")
	if err == nil {
		err = systemctl(ctx, "enable", "--now", unitName)
	}
	if err != nil {
		if removeErr := os.Remove(file); removeErr != nil {
			err = errors.Join(err, removeErr)
		}
		return fault.Wrap(err, "no-systemd", "run domicile usher in a terminal, or have your session start it", "the user's systemd does not take the usher")
	}
	fmt.Fprintf(t.out, "The usher is at work, and starts by itself when you sign in to this machine. What it says: journalctl --user -u %s\n", unitName)
	return nil
}

// uninstallUnit takes the unit away, where there is one.
func uninstallUnit(ctx context.Context) error {
	file, err := unit()
	if err != nil {
		return err
	}
	if _, err := os.Lstat(file); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err := systemctl(ctx, "disable", "--now", unitName); err != nil {
		return fmt.Errorf("end the usher: %w", err)
	}
	if err := os.Remove(file); err != nil {
		return fmt.Errorf("remove the unit: %w", err)
	}
	return systemctl(ctx, "daemon-reload")
}

// systemctl asks the user's systemd.
func systemctl(ctx context.Context, args ...string) error {
	out, err := exec.CommandContext(ctx, "systemctl", append([]string{"--user"}, args...)...).CombinedOutput()
	if err != nil && len(out) > 0 {
		return fmt.Errorf("systemctl --user %s: %s", strings.Join(args, " "), strings.TrimSpace(string(out)))
	}
	if err != nil {
		return fmt.Errorf("systemctl --user %s: %w", strings.Join(args, " "), err)
	}
	return nil
}
