package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"domicile/internal/client"
	"domicile/internal/fault"
)

const defaultServer = "http://127.0.0.1:4380"

// signIn is what domicile login keeps.
type signIn struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

func signInFile() (string, error) {
	if path := os.Getenv("DOMICILE_LOGIN_FILE"); path != "" {
		return path, nil
	}
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find the folder for settings: %w", err)
	}
	return filepath.Join(folder, "domicile", "login.json"), nil
}

func (s signIn) save() error {
	path, err := signInFile()
	if err != nil {
		return err
	}
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	// A file that was there with wider rights would keep them.
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	if err := os.WriteFile(path, b, 0o600); err != nil {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	return nil
}

// loadSignIn reads DOMICILE_SERVER and DOMICILE_TOKEN, or what domicile login has kept.
func loadSignIn() (signIn, error) {
	path, err := signInFile()
	if err != nil {
		return signIn{Server: defaultServer}, err
	}
	return readSignIn(path)
}

func readSignIn(path string) (signIn, error) {
	s := signIn{Server: defaultServer}
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &s)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return s, fault.Wrap(err, "bad-login-file", "sign in again: domicile login", "cannot read %s", path)
	}
	if v := os.Getenv("DOMICILE_SERVER"); v != "" {
		s.Server = v
	}
	if v := os.Getenv("DOMICILE_TOKEN"); v != "" {
		s.Token = v
	}
	return s, nil
}

// service opens the service that the person is signed in to.
func service() (*client.Service, error) { return serviceOf("") }

// serviceOf opens the service of a sign-in that is in a file; empty: the usual one.
func serviceOf(login string) (*client.Service, error) {
	read := loadSignIn
	if login != "" {
		read = func() (signIn, error) { return readSignIn(login) }
	}
	s, err := read()
	if err != nil {
		return nil, err
	}
	if s.Token == "" {
		return nil, fault.New("not-signed-in", "domicile login -server "+s.Server, "you are not signed in")
	}
	return client.Open(s.Server, s.Token)
}
