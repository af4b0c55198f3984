// Package agent is Domicile's program inside a workspace: an SSH server on a unix socket
// that only root may open. Sessions, sftp, forwards and agent forwarding are SSH's own;
// terminals outlive their connection, and commands of runs (tasks) can be come back to.
//
// It is meant to be the first process of a container: it reaps what nobody waits for.
package agent
