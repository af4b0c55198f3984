package recipe

import (
	"fmt"
	"strings"

	"domicile/internal/definition"

	"al.essio.dev/pkg/shellescape"
)

// UserUpdate are the numbers that the remote user gets: those of the owner of a folder of
// the host that is mounted (the standard's updateRemoteUserUID).
type UserUpdate struct {
	UID int `json:"uid"`
	GID int `json:"gid"`
}

// From is the recipe that begins with an image and adds nothing yet.
func From(r *definition.Report, image string) *Recipe {
	return (&Recipe{Base: image, Metadata: r.Metadata, RemoteUser: r.Effective.RemoteUser, ContainerUser: r.Effective.ContainerUser, Pins: pins(r)}).sealed()
}

// WithUser adds the layer that gives the remote user other numbers.
func (r *Recipe) WithUser(uid, gid int) *Recipe {
	updated := *r
	updated.User = &UserUpdate{uid, gid}
	return updated.sealed()
}

// OwnersAlone tells of a build that reads secrets or caches of its account: what comes of it
// is nobody else's.
func (r *Recipe) OwnersAlone() bool {
	return r.Dockerfile != nil && (r.Dockerfile.Caches || len(r.Dockerfile.Secrets) > 0)
}

// CacheSpace names whose caches the steps of the build may use: those of its account, or
// those of this recipe alone.
func (r *Recipe) CacheSpace() string {
	if r.Account != 0 {
		return fmt.Sprintf("account-%d", r.Account)
	}
	return "recipe-" + r.Digest
}

// For makes the image an account's own.
func (r *Recipe) For(account int64) *Recipe {
	own := *r
	own.Account = account
	return own.sealed()
}

// userScript changes the numbers in the image's own files. Root keeps its own, and numbers
// that another user or group has are not taken (the standard's "Users").
const userScript = `set -e
name= old= oldgid= home=
while IFS=: read -r n p u g c h s; do
  if [ "$n" = "$user" ] || [ "$u" = "$user" ]; then name=$n old=$u oldgid=$g home=$h; fi
done < /etc/passwd
[ -n "$name" ] && [ "$old" != 0 ] || exit 0
while IFS=: read -r n p u rest; do
  if [ "$u" = "$uid" ] && [ "$n" != "$name" ]; then echo "the number $uid belongs to $n; $name keeps $old"; exit 0; fi
done < /etc/passwd
while IFS=: read -r n p g rest; do
  if [ "$g" = "$gid" ] && [ "$g" != "$oldgid" ]; then gid=$oldgid; break; fi
done < /etc/group
sed -i "s/^\($name:[^:]*\):$old:$oldgid:/\1:$uid:$gid:/" /etc/passwd
[ "$gid" = "$oldgid" ] || sed -i "s/^\([^:]*:[^:]*\):$oldgid:/\1:$gid:/" /etc/group
[ ! -d "$home" ] || chown -R "$uid:$gid" "$home"
echo "$name is $uid:$gid now, as the owner of the source is"
`

// UserScript is the shell script of the layer that gives the remote user other numbers.
func (r *Recipe) UserScript(imageUser string) string {
	_, remote := r.users(imageUser)
	name, _, _ := strings.Cut(remote, ":")
	return fmt.Sprintf("user=%s uid=%d gid=%d\n", shellescape.Quote(name), r.User.UID, r.User.GID) + userScript
}
