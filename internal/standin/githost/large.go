package githost

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// largeAt is where a repository's large files are asked for (the Git LFS batch API, with
// its basic transfers).
var largeAt = regexp.MustCompile(`^(/[A-Za-z0-9/._-]+\.git)/info/lfs/objects/(batch|[0-9a-f]{64})$`)

const largeMedia = "application/vnd.git-lfs+json"

type (
	largeObject struct {
		OID     string                 `json:"oid"`
		Size    int64                  `json:"size"`
		Actions map[string]largeAction `json:"actions,omitempty"`
		Error   *largeError            `json:"error,omitempty"`
	}
	largeAction struct {
		Href   string            `json:"href"`
		Header map[string]string `json:"header,omitempty"`
	}
	largeError struct {
		Code    int    `json:"code"`
		Message string `json:"message"`
	}
)

// large serves large files; it tells whether the request was for them.
func (h *Host) large(w http.ResponseWriter, r *http.Request) bool {
	m := largeAt.FindStringSubmatch(r.URL.Path)
	if m == nil || strings.Contains(r.URL.Path, "..") {
		return false
	}
	folder := filepath.Join(h.folder, "large")
	switch {
	case m[2] == "batch" && r.Method == http.MethodPost:
		h.batch(w, r, folder, "http://"+r.Host+m[1]+"/info/lfs/objects/")
	case r.Method == http.MethodGet:
		http.ServeFile(w, r, filepath.Join(folder, m[2]))
	case r.Method == http.MethodPut:
		if err := keep(folder, m[2], r.Body); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	default:
		http.Error(w, "not so", http.StatusMethodNotAllowed)
	}
	return true
}

func keep(folder, name string, from io.Reader) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	f, err := os.CreateTemp(folder, "coming-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // fails once it has its own name
	_, err = io.Copy(f, from)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), filepath.Join(folder, name))
}

func (h *Host) batch(w http.ResponseWriter, r *http.Request, folder, at string) {
	var q struct {
		Operation string        `json:"operation"`
		Objects   []largeObject `json:"objects"`
	}
	if err := json.NewDecoder(r.Body).Decode(&q); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	for i := range q.Objects {
		o := &q.Objects[i]
		_, err := os.Stat(filepath.Join(folder, filepath.Base(o.OID)))
		switch {
		case q.Operation == "download" && err != nil:
			o.Error = &largeError{http.StatusNotFound, fmt.Sprintf("there is no %s", o.OID)}
		case q.Operation == "download" || err != nil:
			o.Actions = map[string]largeAction{q.Operation: {Href: at + o.OID, Header: authorization(r)}}
		}
	}
	w.Header().Set("Content-Type", largeMedia)
	_ = json.NewEncoder(w).Encode(map[string]any{"transfer": "basic", "objects": q.Objects})
}

func authorization(r *http.Request) map[string]string {
	if v := r.Header.Get("Authorization"); v != "" {
		return map[string]string{"Authorization": v}
	}
	return nil
}
