package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"domicile/internal/fault"
	"domicile/internal/records"
)

// statusOf gives the HTTP status of a kind of fault.
var statusOf = map[fault.Kind]int{
	fault.Asked: http.StatusBadRequest, fault.Unknown: http.StatusUnauthorized, fault.Forbidden: http.StatusForbidden, fault.Missing: http.StatusNotFound, fault.Conflict: http.StatusConflict,
	fault.TooOften: http.StatusTooManyRequests, fault.Elsewhere: http.StatusBadGateway, fault.Unable: http.StatusServiceUnavailable, fault.OwnMistake: http.StatusInternalServerError,
}

func problemOf(err error) Problem {
	var f *fault.Fault
	switch {
	case errors.As(err, &f):
		p := Problem{Title: f.Message, Status: statusOf[fault.KindOf(f)], Code: f.Code, Remedy: optional(f.Remedy)}
		if f.Err != nil {
			p.Detail = optional(f.Err.Error())
		}
		return p
	case errors.Is(err, records.ErrNotFound):
		return Problem{Title: "You have nothing of that name or number", Status: http.StatusNotFound, Code: "not-found"}
	case records.Unwritable(err):
		return Problem{Title: "A text in the request holds what is no text, such as a zero byte", Status: http.StatusBadRequest, Code: "bad-text", Remedy: optional("leave it out")}
	case records.Unavailable(err):
		return Problem{Title: "The service's database does not answer", Status: http.StatusServiceUnavailable, Code: "database-unavailable",
			Remedy: optional("try again in a moment; the service goes on by itself when the database is back")}
	case errors.Is(err, context.DeadlineExceeded):
		return Problem{Title: "It took too long", Status: http.StatusGatewayTimeout, Code: "too-slow", Remedy: optional("try again")}
	}
	return Problem{Title: "The service made a mistake", Status: http.StatusInternalServerError, Code: "internal", Detail: optional(err.Error())}
}

func writeProblem(w http.ResponseWriter, p Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	if p.Status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "2")
	}
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

func badRequest(w http.ResponseWriter, _ *http.Request, err error) {
	writeProblem(w, Problem{Title: "The request cannot be read", Status: http.StatusBadRequest, Code: "bad-request", Detail: optional(err.Error())})
}

// failed answers an operation's error. What is the service's own fault goes to its log too.
func (s *Server) failed(w http.ResponseWriter, r *http.Request, err error) {
	p := problemOf(err)
	if p.Status == http.StatusInternalServerError {
		s.o.Log.Error("answer a request", "path", r.URL.Path, "error", err)
	}
	writeProblem(w, p)
}

// optional is nil for the empty string.
// whenTrue leaves out what is false.
func whenTrue(b bool) *bool {
	if !b {
		return nil
	}
	return &b
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func value[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}
