// Package fault gives errors what a person needs of them: a stable code, a sentence, a
// remedy, and whether trying again may help. Every layer wraps; the outermost shows.
package fault

import (
	"errors"
	"fmt"
	"strings"
)

// Fault is an error that a person can act on.
type Fault struct {
	Code      string // short, stable, with hyphens
	Message   string // one sentence: what, where, why
	Remedy    string // what to do; may be empty
	Transient bool   // the same again may go well: network, a server that restarts
	Err       error  // what lies beneath; may be nil
}

func (f *Fault) Error() string {
	if f.Err == nil {
		return f.Message
	}
	return fmt.Sprintf("%s: %v", f.Message, f.Err)
}

// Unwrap gives what lies beneath.
func (f *Fault) Unwrap() error { return f.Err }

// New makes a fault that trying again does not cure.
func New(code, remedy, format string, args ...any) *Fault {
	return &Fault{Code: code, Remedy: remedy, Message: fmt.Sprintf(format, args...)}
}

// Wrap makes a fault from an error, keeping it beneath.
func Wrap(err error, code, remedy, format string, args ...any) *Fault {
	f := New(code, remedy, format, args...)
	f.Err = err
	return f
}

// Transient makes a fault from an error that trying again may cure.
func Transient(err error, code, remedy, format string, args ...any) *Fault {
	f := Wrap(err, code, remedy, format, args...)
	f.Transient = true
	return f
}

// IsTransient tells whether trying again may help.
func IsTransient(err error) bool {
	var f *Fault
	return errors.As(err, &f) && f.Transient
}

// Code returns the code of the outermost fault in err, or "internal".
func Code(err error) string {
	var f *Fault
	if errors.As(err, &f) {
		return f.Code
	}
	return "internal"
}

// Remedy returns the remedy of the outermost fault in err, or "".
func Remedy(err error) string {
	var f *Fault
	if errors.As(err, &f) {
		return f.Remedy
	}
	return ""
}

// ToDo tells a remedy as it is told everywhere; "" where there is none.
func ToDo(remedy string) string {
	if remedy == "" {
		return ""
	}
	return "What to do: " + strings.TrimSuffix(remedy, ".") + "."
}
