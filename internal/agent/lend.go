package agent

import (
	"os"
	"strconv"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

// lend opens the doors through which the person's programs ask the machine that the person sits at, as
// long as the connection of the usher there lasts. Of several ushers the one that came last answers.
func (s *Server) lend(conn connection.Conn, q wire.LendRequest) error {
	p, err := s.current()
	if err != nil {
		return err
	}
	err = s.doors.hold(conn, door{socket: wire.UsherSocket, visit: wire.WishVisit, owner: p.account})
	if err == nil && q.Keys {
		err = s.doors.hold(conn, door{socket: wire.KeysSocket, visit: wire.KeysVisit, owner: p.account})
		s.keys.Store(err == nil || s.keys.Load())
	}
	return err
}

// lent adds variables by which the person's programs find what an usher lends. What the definition or
// the image says goes before them.
func lent(env map[string]string) {
	if _, err := os.Stat(wire.ProgramFolder); err != nil {
		return // an instance that was made by an earlier version
	}
	env["PATH"] += ":" + wire.ProgramFolder // last: it stands before nobody's own
	if env["BROWSER"] == "" {
		env["BROWSER"] = wire.ProgramFolder + "/browse"
	}
	// git(1): settings that are in no file. The helper is asked after the person's own.
	if n, err := strconv.Atoi("0" + env["GIT_CONFIG_COUNT"]); err == nil {
		env["GIT_CONFIG_COUNT"] = strconv.Itoa(n + 1)
		env["GIT_CONFIG_KEY_"+strconv.Itoa(n)] = "credential.helper"
		env["GIT_CONFIG_VALUE_"+strconv.Itoa(n)] = wire.ProgramFolder + "/usher git-credential"
	}
}

// lentKeys are variables of a session by which its programs find the person's SSH agent, where an usher
// has offered it: also one that is away now, for it may come back.
func (s *Server) lentKeys(p *person) map[string]string {
	if p.env["SSH_AUTH_SOCK"] != "" || !s.keys.Load() {
		return nil
	}
	return map[string]string{"SSH_AUTH_SOCK": wire.KeysSocket}
}
