package firstprocess

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"domicile/internal/callhome"
	"domicile/internal/channel"
)

// The files of a rented instance: what it was given, and its own key.
const (
	homeFolder = "/var/lib/domicile"
	firstFile  = homeFolder + "/first-boot.json"
	keyFile    = homeFolder + "/key"
)

const (
	// shortest and longest are the pauses between two calls.
	shortest = time.Second
	longest  = 20 * time.Second
)

// callLimit is how long a call lasts from which on it was a session.
const callLimit = 30 * time.Second

// caller calls the service that ordered this machine, as long as it runs.
type caller struct {
	handle channel.Handler
	again  chan struct{} // call now: something has changed
}

// first keeps what the machine is given when it first starts. It is not given twice.
func (c *caller) first(given callhome.FirstBoot) error {
	b, err := json.Marshal(given)
	if err != nil {
		return err
	}
	if before, err := os.ReadFile(firstFile); err == nil {
		if !bytes.Equal(before, b) {
			return errors.New("it was given another before")
		}
		return nil
	}
	if err := os.MkdirAll(homeFolder, 0o700); err != nil {
		return err
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	// What it is given comes last: where that is there, the key is.
	if err := writeFirm(keyFile, key.Seed()); err != nil {
		return err
	}
	if err := writeFirm(firstFile, b); err != nil {
		return err
	}
	c.now()
	return nil
}

// writeFirm writes a file that is there after a loss of power, or not at all.
func writeFirm(file string, content []byte) error {
	f, err := os.OpenFile(file+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// now has it call now.
func (c *caller) now() {
	select {
	case c.again <- struct{}{}:
	default:
	}
}

// run calls again and again. A machine that was given nothing calls nobody.
func (c *caller) run() {
	pause := shortest
	for {
		began := time.Now()
		err := c.call()
		switch {
		case errors.Is(err, fs.ErrNotExist):
			<-c.again
			continue
		case time.Since(began) > callLimit:
			pause = shortest // it was a session
		}
		say("the call to the service ended: %v", err)
		select {
		case <-c.again:
			pause = shortest
		case <-time.After(pause):
			pause = min(2*pause, longest)
		}
	}
}

// call calls once, and serves what is asked until the connection ends, or the machine woke up:
// what was connected before is not any more.
func (c *caller) call() error {
	b, err := os.ReadFile(firstFile)
	if err != nil {
		return err
	}
	var given callhome.FirstBoot
	if err := json.Unmarshal(b, &given); err != nil {
		return fmt.Errorf("read what the machine was given: %w", err)
	}
	seed, err := os.ReadFile(keyFile)
	if err != nil {
		return err
	}
	conn, err := callhome.Dial(given, ed25519.NewKeyFromSeed(seed))
	if err != nil {
		return err
	}
	over := make(chan struct{})
	defer close(over)
	go func() {
		select {
		case <-c.again:
			conn.Close()
		case <-over:
		}
	}()
	return channel.Call(conn, c.handle)
}
