package agent

import (
	"errors"
	"io"
	"os"

	"github.com/pkg/sftp"
)

// ServeSFTP serves the SFTP protocol on standard input and output, in the current folder
// and with the rights of the process: the agent starts it as the session's user.
func ServeSFTP() error {
	folder, err := os.Getwd()
	if err != nil {
		folder = "/"
	}
	server, err := sftp.NewServer(struct {
		io.Reader
		io.WriteCloser
	}{os.Stdin, os.Stdout}, sftp.WithServerWorkingDirectory(folder), sftp.WithMaxTxPacket(256<<10))
	if err != nil {
		return err
	}
	if err := server.Serve(); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	return nil
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
