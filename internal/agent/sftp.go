package agent

import (
	"io"
	"os"

	"domicile/internal/agent/files"
)

// ServeSFTP serves the SFTP protocol on standard input and output, in the current folder
// and with the rights of the process: the agent starts it as the session's user, at home.
func ServeSFTP() error {
	home, err := os.Getwd()
	if err != nil {
		home = "/"
	}
	server := files.Server{Home: home}
	return server.Serve(os.Stdin, os.Stdout)
}

// Bridge joins standard input and output to the agent's socket, for sites whose only way
// in is to run a program there.
func Bridge(socket string) error {
	conn, err := dialUnix(socket)
	if err != nil {
		return err
	}
	defer conn.Close()
	go func() {
		_, _ = io.Copy(conn, os.Stdin)
		_ = conn.CloseWrite()
	}()
	_, err = io.Copy(os.Stdout, conn)
	return err
}
