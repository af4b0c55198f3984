package definition

import (
	"encoding/json"
	"errors"
	"io/fs"

	"domicile/internal/fault"
)

// Reading is a report as plain data: all that is needed of it by who did not read the text.
// The text can so be read by another process.
type Reading struct {
	Report    wireReport        `json:"report"`
	Text      *Text             `json:"text,omitempty"`
	Folder    string            `json:"folder"`
	Locks     *Locks            `json:"locks,omitempty"`
	Transient *fault.Fault      `json:"transient,omitempty"`
	BaseUser  string            `json:"baseUser,omitempty"`
	Nowhere   bool              `json:"nowhere,omitempty"` // of the effective configuration
	Metadata  []json.RawMessage `json:"metadata,omitempty"`
	Inputs    map[string]string `json:"inputs,omitempty"`
	Caches    map[string]bool   `json:"caches,omitempty"`
	// Variables and Files belong to the features, in their order; Places to the services.
	Variables [][]Variable   `json:"variables,omitempty"`
	Files     []FeatureFiles `json:"files,omitempty"`
	Places    []servicePlace `json:"places,omitempty"`
}

// wireReport has the report's own fields without its way of writing them.
type wireReport Report

type servicePlace struct {
	File string
	Line int
}

// FeatureFiles says where the files of a feature are: in which file system, and in which
// folder of it. Zero: they were not fetched.
type FeatureFiles struct {
	System int // 0: none
	Folder string
}

// placed is a file system that knows where it is: one whose files are elsewhere.
type placed interface{ Place() FeatureFiles }

// Plain gives the report as plain data.
func (r *Report) Plain() Reading {
	copied := *r
	copied.Makes = r.Facts()
	out := Reading{Report: wireReport(copied), Text: r.Text, Folder: r.LocalFolder, Locks: r.Locks, BaseUser: r.BaseUser, Metadata: r.Metadata, Inputs: r.inputs, Caches: r.caches}
	if r.Effective != nil {
		out.Nowhere = r.Effective.Nowhere
	}
	if r.Transient != nil {
		out.Transient = &fault.Fault{Code: fault.Code(r.Transient), Message: r.Transient.Error(), Remedy: fault.Remedy(r.Transient), Transient: fault.IsTransient(r.Transient)}
	}
	for _, f := range r.Features {
		out.Variables = append(out.Variables, f.ContainerEnv)
		var at FeatureFiles
		if p, is := f.files.(placed); is {
			at = p.Place()
		}
		out.Files = append(out.Files, at)
	}
	for _, s := range r.Services {
		out.Places = append(out.Places, servicePlace{s.File, s.Line})
	}
	return out
}

// Whole makes a report of plain data. It comes from a process that read hostile text, so
// nothing of it is believed to fit together: files gives a feature's files.
func (in Reading) Whole(files func(FeatureFiles) (fs.FS, error)) (*Report, error) {
	r := Report(in.Report)
	if len(in.Variables) != len(r.Features) || len(in.Files) != len(r.Features) || len(in.Places) != len(r.Services) {
		return nil, errors.New("what was read does not fit together")
	}
	r.Text, r.LocalFolder, r.Locks, r.BaseUser, r.Metadata, r.inputs, r.caches = in.Text, in.Folder, in.Locks, in.BaseUser, in.Metadata, in.Inputs, in.Caches
	if r.Text != nil && r.Text.Root == nil && !r.HasErrors() {
		return nil, errors.New("what was read has no text")
	}
	if in.Transient != nil {
		r.Transient = in.Transient
	}
	if r.Effective != nil {
		r.Effective.Nowhere = in.Nowhere
	}
	for i := range r.Features {
		r.Features[i].ContainerEnv = in.Variables[i]
		if in.Files[i].System == 0 {
			continue
		}
		var err error
		if r.Features[i].files, err = files(in.Files[i]); err != nil {
			return nil, err
		}
	}
	for i := range r.Services {
		r.Services[i].File, r.Services[i].Line = in.Places[i].File, in.Places[i].Line
	}
	return &r, nil
}

// Hasher is a file system that makes digests of its own files: one whose files are
// elsewhere, where it would be dear to bring them all.
type Hasher interface {
	// TreeDigest is the function of that name.
	TreeDigest() (string, error)
	// ContextDigest is the function of that name.
	ContextDigest(context string, counted, ignored []string) (string, error)
}
