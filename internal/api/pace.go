package api

import (
	"io"
	"net/http"
	"time"
)

const (
	// bodyLimit is how long the body of a request to the API may take; it has 1 MB at most.
	bodyLimit = time.Minute
	// bodyPause is how long a body may make no progress, also that of a large upload to a web address.
	bodyPause = time.Minute
)

// paced ends requests whose body does not come: after whole in all (0: no limit), or after bodyPause without a byte.
func paced(whole time.Duration) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Body != nil && r.Body != http.NoBody && r.ContentLength != 0 {
				b := &pacedBody{ReadCloser: r.Body, connection: http.NewResponseController(w)}
				if whole > 0 {
					b.end = time.Now().Add(whole)
				}
				b.wait() // also if nobody reads it: the server reads the rest then
				r.Body = b
			}
			next.ServeHTTP(w, r)
		})
	}
}

// pacedBody is a body that must make progress.
type pacedBody struct {
	io.ReadCloser
	connection *http.ResponseController
	end        time.Time // zero: when it does not come to an end does not matter
}

// Read reads some of it.
func (b *pacedBody) Read(p []byte) (int, error) {
	b.wait()
	n, err := b.ReadCloser.Read(p)
	if err == io.EOF { // what the connection is for next may take longer
		_ = b.connection.SetReadDeadline(time.Time{})
	}
	return n, err
}

// wait sets how long the next bytes may take. A connection without deadlines is not one of strangers.
func (b *pacedBody) wait() {
	at := time.Now().Add(bodyPause)
	if !b.end.IsZero() && b.end.Before(at) {
		at = b.end
	}
	_ = b.connection.SetReadDeadline(at)
}
