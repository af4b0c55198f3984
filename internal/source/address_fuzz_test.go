package source

import (
	"net/url"
	"path/filepath"
	"strings"
	"testing"
)

// Whatever is given as an address: what git gets is no option, no program, no file of the
// host, and names a host.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"https://git.skerry.test/x.git", "git@git.skerry.test:x.git", "ssh://git@h:22/x", "/srv/x", "ext::sh -c id", "-oProxyCommand=id", "ssh://-oProxyCommand=id/x", "http://*/x", "file:///etc", "git@-x:y", "http://a\nb/c", "http://u:p@h/x", "fd::17/x", "http://[::1]:80/x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Parse(text)
		if err != nil {
			return
		}
		if a.Folder != "" {
			if !filepath.IsAbs(a.Folder) || filepath.Clean(a.Folder) != a.Folder {
				t.Fatalf("%q is the folder %q", text, a.Folder)
			}
			return
		}
		if strings.HasPrefix(a.Git, "-") || strings.ContainsAny(a.Git, "\x00\n\r") || strings.HasPrefix(strings.ToLower(a.Git), "file:") {
			t.Fatalf("git gets %q", a.Git)
		}
		if u, err := url.Parse(a.Git); err == nil && u.Scheme != "" && !scpLike.MatchString(a.Git) {
			if u.Host == "" || strings.HasPrefix(u.Hostname(), "-") {
				t.Fatalf("git gets %q of the host %q", a.Git, u.Host)
			}
			if _, has := u.User.Password(); has {
				t.Fatalf("git gets a password: %q", a.Git)
			}
		} else if strings.Contains(a.Git, "::") {
			t.Fatalf("git gets a program: %q", a.Git)
		}
		if host := a.Host(); host == "" || strings.HasPrefix(host, "-") {
			t.Fatalf("%q names the host %q", text, host)
		}
		_ = a.dialled()
	})
}
