package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/moby/buildkit/client/llb"
	"github.com/moby/buildkit/solver/pb"
	"github.com/opencontainers/go-digest"
	"github.com/tonistiigi/fsutil"
	"google.golang.org/protobuf/proto"

	"domicile/internal/fault"
	"domicile/internal/judge"
)

// What a build may fetch by ADD.
const (
	mostFetched      = 16
	mostFetchedBytes = 1 << 30
)

// mountFetched opens the folders for what ADD fetches: they must be known before the build
// begins, and are filled while its steps are written.
func (w *oneBuild) mountFetched(folder string) error {
	for i := range mostFetched {
		to := filepath.Join(folder, fmt.Sprintf("fetched-%d", i))
		if err := os.Mkdir(to, 0o700); err != nil {
			return fmt.Errorf("make a folder for what the build fetches: %w", err)
		}
		files, err := fsutil.NewFS(to)
		if err != nil {
			return fmt.Errorf("open a folder for what the build fetches: %w", err)
		}
		w.mounts[fetchedMount(i)] = files
		w.fetched = append(w.fetched, to)
	}
	return nil
}

func fetchedMount(i int) string { return fmt.Sprintf("domicile-fetched-%d", i) }

// settle judges every step of a build, whatever it was written as: where its files come
// from, and what it may do. What ADD fetches from an address is fetched here, through the
// service's own way out, and given to the build as files: the engine's host asks nobody.
func (w *oneBuild) settle(ctx context.Context, def *llb.Definition) error {
	changed := map[string]string{} // digest of a step before and after
	metadata := map[digest.Digest]llb.OpMetadata{}
	next := 0
	for i, b := range def.Def {
		before := digest.FromBytes(b)
		op := &pb.Op{}
		if err := proto.Unmarshal(b, op); err != nil {
			return fmt.Errorf("read a step of the build: %w", err)
		}
		place := w.lineOf(op)
		for _, in := range op.Inputs {
			if after, has := changed[in.Digest]; has {
				in.Digest = after
			}
		}
		if err := judgeStep(op, place); err != nil {
			return err
		}
		if e := op.GetExec(); e != nil && e.Meta != nil {
			e.Meta.Ulimit = w.bounds()
		}
		if s := op.GetSource(); s != nil && isAddress(s.Identifier) {
			if next == mostFetched {
				return fault.New("not-carried-out", "fetch them in a RUN", "%s: a build adds at most %d addresses", place, mostFetched)
			}
			if err := w.fetch(ctx, s, next, place); err != nil {
				return err
			}
			next++
		}
		after, err := proto.MarshalOptions{Deterministic: true}.Marshal(op)
		if err != nil {
			return fmt.Errorf("write a step of the build: %w", err)
		}
		def.Def[i] = after
		changed[before.String()] = digest.FromBytes(after).String()
		metadata[digest.FromBytes(after)] = def.Metadata[before]
	}
	def.Metadata, def.Source = metadata, nil
	return nil
}

// lineOf is where a step is written: an ADD by its address, or where that comes from a
// variable, the first ADD.
func (w *oneBuild) lineOf(op *pb.Op) string {
	at := 0
	for i, line := range strings.Split(w.text, "\n") {
		isAdd := strings.HasPrefix(strings.ToUpper(strings.TrimSpace(line)), "ADD ")
		if s := op.GetSource(); s == nil || !isAdd {
			continue
		} else if strings.Contains(line, s.Identifier) {
			return fmt.Sprintf("%s:%d", w.place(), i+1)
		}
		if at == 0 {
			at = i + 1
		}
	}
	if at == 0 {
		return w.place()
	}
	return fmt.Sprintf("%s:%d", w.place(), at)
}

// bounds are the limits of the programs of a RUN: an engine's builder has no others. Where
// the engine maps its users, that of processes holds for root too.
func (w *oneBuild) bounds() []*pb.Ulimit {
	list := []*pb.Ulimit{{Name: "nproc", Soft: judge.MostProcesses, Hard: judge.MostProcesses}, {Name: "core"}}
	w.s.mu.Lock()
	memory := w.s.host.memory
	w.s.mu.Unlock()
	if memory > 0 {
		list = append(list, &pb.Ulimit{Name: "data", Soft: memory / shareOfMemory, Hard: memory / shareOfMemory})
	}
	return list
}

func isAddress(identifier string) bool {
	return strings.HasPrefix(identifier, "http://") || strings.HasPrefix(identifier, "https://")
}

// judgeStep allows the kinds of steps that builds of Domicile have.
func judgeStep(op *pb.Op, place string) error {
	j := judge.New(judge.Subject{})
	switch {
	case op.GetSource() != nil:
		id := op.GetSource().Identifier
		name, isImage := strings.CutPrefix(id, "docker-image://")
		switch {
		case isImage:
			j.Pulled(place, name)
		case !isAddress(id) && !strings.HasPrefix(id, "local://"):
			j.RefuseFor("fetch it in a RUN", place, "the build takes files from %s, which is not carried out", id)
		}
	case op.GetExec() != nil:
		e := op.GetExec()
		if e.Security != pb.SecurityMode_SANDBOX || e.Network == pb.NetMode_HOST || len(e.CdiDevices) > 0 {
			j.Refuse(place, "a RUN asks for the network, the rights or the devices of the host")
		}
		for _, m := range e.Mounts {
			if m.MountType == pb.MountType_SSH {
				j.Refuse(place, "a RUN asks for somebody's SSH agent")
			}
		}
	case op.GetFile() != nil, op.GetMerge() != nil, op.GetDiff() != nil, op.Op == nil: // the last one names the result
	default:
		j.Refuse(place, "the build has a step that is not carried out")
	}
	return j.Err()
}

// fetch fetches what ADD names, and makes the step one that takes it from the service.
func (w *oneBuild) fetch(ctx context.Context, s *pb.SourceOp, i int, place string) error {
	address := s.Identifier
	for name := range s.Attrs {
		switch name {
		case pb.AttrHTTPChecksum, pb.AttrHTTPFilename, pb.AttrHTTPPerm, pb.AttrHTTPUID, pb.AttrHTTPGID:
		default:
			return fault.New("not-carried-out", "fetch it in a RUN", "%s: ADD %s asks for %s, which is not carried out", place, address, name)
		}
	}
	name := s.Attrs[pb.AttrHTTPFilename]
	if name == "" {
		u, err := url.Parse(address)
		if err != nil {
			return fault.Wrap(err, "bad-dockerfile", "correct the address", "%s: ADD %s", place, address)
		}
		name = path.Base(u.Path)
	}
	if name == "." || name == "/" || name == ".." || strings.ContainsAny(name, "/\x00") {
		name = "download"
	}
	w.progress("fetching " + address)
	sum, err := w.download(ctx, address, filepath.Join(w.fetched[i], name), place)
	if err != nil {
		return err
	}
	if want := s.Attrs[pb.AttrHTTPChecksum]; want != "" && want != sum {
		return fault.New("checksum", "correct the checksum, or the address", "%s: what %s gives has the digest %s, not %s", place, address, sum, want)
	}
	s.Identifier = "local://" + fetchedMount(i)
	s.Attrs = map[string]string{pb.AttrSharedKeyHint: sum, pb.AttrLocalUniqueID: sum}
	return nil
}

func (w *oneBuild) download(ctx context.Context, address, to, place string) (sum string, err error) {
	client := http.DefaultClient
	if w.s.o.HTTP != nil {
		client = w.s.o.HTTP
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", fault.Wrap(err, "bad-dockerfile", "correct the address", "%s: ADD %s", place, address)
	}
	a, err := client.Do(q)
	var known *fault.Fault
	if errors.As(err, &known) && known.Code == "address-not-asked" {
		return "", fault.New(known.Code, known.Remedy, "%s: ADD %s: %s", place, address, known.Message)
	}
	if err != nil {
		return "", fault.Transient(err, "address-down", "try again when it answers", "%s: %s cannot be fetched", place, address)
	}
	defer a.Body.Close()
	if a.StatusCode != http.StatusOK {
		return "", fault.New("not-found", "correct the address", "%s: %s cannot be fetched: %s", place, address, a.Status)
	}
	file, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", fmt.Errorf("keep what the build fetches: %w", err)
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(file, h), io.LimitReader(a.Body, mostFetchedBytes+1))
	if err = errors.Join(err, file.Close()); err != nil {
		return "", fault.Transient(err, "address-down", "try again", "%s: %s broke off", place, address)
	}
	if n > mostFetchedBytes {
		return "", fault.New("artifact-too-large", "fetch it in a RUN", "%s: %s has more than %d bytes", place, address, mostFetchedBytes)
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil)), nil
}
