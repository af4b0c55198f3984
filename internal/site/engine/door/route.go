package door

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strings"
)

// objectName is the grammar of names and ids that an engine takes for its objects.
var objectName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9_.-]{0,254}$`)

// plainPath are the characters of the paths that clients of the API ask for.
var plainPath = regexp.MustCompile(`^/[a-zA-Z0-9_.:@/-]*$`)

// queries are what the routes' queries may say; a route ends in one of these words.
var queries = map[string][]string{
	"containers/json": {"all", "limit", "size", "filters"}, "containers/create": {"name", "platform"}, "logs": {"follow", "stdout", "stderr", "since", "until", "timestamps", "tail", "details"},
	"stats": {"stream", "one-shot"}, "archive": {"path", "noOverwriteDirNonDir", "copyUIDGID"}, "start": {"detachKeys"}, "stop": {"t", "signal"}, "kill": {"signal"}, "restart": {"t", "signal"},
	"wait": {"condition"}, "attach": {"detachKeys", "logs", "stream", "stdin", "stdout", "stderr"}, "resize": {"h", "w"}, "images/create": {"fromImage", "tag", "platform"}, "volumes": {"filters"}, "json": {"size", "manifests"},
	"": {"v", "force"}, // of a DELETE
}

// odd tells why a request is refused before its route is looked for: a path that could mean
// something else behind the door, or a query that its route does not know.
func odd(r *http.Request) string {
	p := r.URL.Path
	if !plainPath.MatchString(p) || path.Clean(p) != p && path.Clean(p)+"/" != p || strings.Contains(p, "..") || strings.Contains(p, "//") {
		return fmt.Sprintf("The path %q is not given through this door: write it plainly.", p)
	}
	for name := range r.URL.Query() {
		if !slices.Contains(known(r.Method, p), name) {
			return fmt.Sprintf("The query %q is not given through this door with %s %s: leave it out.", name, r.Method, p)
		}
	}
	return ""
}

func known(method, p string) []string {
	if method == http.MethodDelete {
		return queries[""]
	}
	for _, whole := range []string{"containers/json", "containers/create", "images/create"} {
		if p == "/"+whole {
			return queries[whole]
		}
	}
	last := path.Base(p)
	if last == "" {
		return nil
	}
	return queries[last]
}

// strictly reads JSON whose every field is known: what is not known here can be anything.
func strictly(body []byte, v any) error {
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return err
	}
	if _, err := d.Token(); err != io.EOF {
		return fmt.Errorf("more follows on its end")
	}
	return nil
}
