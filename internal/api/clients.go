package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// clientFiles are the names of the programs that people download, and no others: what a visitor asks for
// is looked up here, and never made into a path.
var clientFiles = []ClientProgram{
	{File: "domicile-linux-amd64", System: Linux, Architecture: Amd64},
	{File: "domicile-linux-arm64", System: Linux, Architecture: Arm64},
	{File: "domicile-darwin-arm64", System: Macos, Architecture: Arm64},
	{File: "domicile-darwin-amd64", System: Macos, Architecture: Amd64},
	{File: "domicile-windows-amd64.exe", System: Windows, Architecture: Amd64},
	{File: "domicile-windows-arm64.exe", System: Windows, Architecture: Arm64},
}

// Clients are the command line's programs for people's own machines, in a folder beside the service's.
type Clients struct {
	Folder string

	mu      sync.Mutex
	digests map[string]digested
}

// digested is a file's digest, while it is as it was.
type digested struct {
	modified time.Time
	size     int64
	sha256   string
}

// digest gives a file's size and digest.
func (c *Clients) digest(name string) (digested, error) {
	f, err := os.Open(filepath.Join(c.Folder, name))
	if err != nil {
		return digested{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is no file", name)
	}
	if err != nil {
		return digested{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	known := c.digests[name]
	if known.size == info.Size() && known.modified.Equal(info.ModTime()) {
		return known, nil
	}
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return digested{}, err
	}
	known = digested{info.ModTime(), info.Size(), hex.EncodeToString(h.Sum(nil))}
	if c.digests == nil {
		c.digests = map[string]digested{}
	}
	c.digests[name] = known
	return known, nil
}

// ListClients lists the programs that are there. Who has no account yet may see them.
func (s *Server) ListClients(context.Context, ListClientsRequestObject) (ListClientsResponseObject, error) {
	list := ListClients200JSONResponse{}
	for _, x := range clientFiles {
		if s.o.Clients == nil {
			break
		}
		d, err := s.o.Clients.digest(x.File)
		if err != nil { // it was not built
			continue
		}
		x.Bytes, x.Sha256 = d.size, d.sha256
		list = append(list, x)
	}
	return list, nil
}

// downloadClient serves one of them.
func (s *Server) downloadClient(w http.ResponseWriter, r *http.Request) {
	asked := chi.URLParam(r, "file")
	for _, x := range clientFiles {
		if x.File != asked || s.o.Clients == nil {
			continue
		}
		f, err := os.Open(filepath.Join(s.o.Clients.Folder, x.File))
		if err != nil {
			break
		}
		defer f.Close()
		d, err := s.o.Clients.digest(x.File)
		if err != nil {
			break
		}
		name := "domicile"
		if strings.HasSuffix(x.File, ".exe") {
			name += ".exe"
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
		w.Header().Set("ETag", `"`+d.sha256+`"`)
		w.Header().Set("Cache-Control", "no-cache")
		http.ServeContent(w, r, name, d.modified, f)
		return
	}
	writeProblem(w, Problem{Title: "There is no program " + asked + " here", Status: http.StatusNotFound, Code: "not-found", Remedy: optional("look at " + "/clients" + " for those that there are; scripts/clients makes them")})
}
