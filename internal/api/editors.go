package api

import (
	"context"
	"errors"
	"regexp"

	"domicile/internal/editor"
	"domicile/internal/fault"
	"domicile/internal/records"
)

// usualEditors are links that every system knows.
var usualEditors = []records.Editor{{Name: "files", Link: "sftp://{user}@{host}:{port}{path}"}, {Name: "ssh", Link: "ssh://{user}@{host}:{port}"}}

// mostEditors bounds how many an account has.
const mostEditors = 20

var editorNames = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,39}$`)

// ListEditors lists the account's editors.
func (s *Server) ListEditors(ctx context.Context, _ ListEditorsRequestObject) (ListEditorsResponseObject, error) {
	list, err := s.o.Store.Editors(ctx, account(ctx).ID)
	return ListEditors200JSONResponse(each(list, func(e records.Editor) Editor { return Editor{Name: e.Name, Link: e.Link} })), err
}

// SetEditor keeps how an editor is opened.
func (s *Server) SetEditor(ctx context.Context, q SetEditorRequestObject) (SetEditorResponseObject, error) {
	if !editorNames.MatchString(q.Editor) {
		return nil, fault.New("bad-name", "take letters, digits, spaces, points and hyphens", "%q cannot be the name of an editor", q.Editor)
	}
	if err := editor.CheckLink(q.Body.Link); err != nil {
		return nil, err
	}
	list, err := s.o.Store.Editors(ctx, account(ctx).ID)
	if err != nil {
		return nil, err
	}
	if len(list) >= mostEditors {
		return nil, fault.New("full", "domicile editors remove NAME", "%d editors are kept already", len(list))
	}
	return SetEditor204Response{}, s.o.Store.SetEditor(ctx, account(ctx).ID, records.Editor{Name: q.Editor, Link: q.Body.Link})
}

// RemoveEditor forgets one.
func (s *Server) RemoveEditor(ctx context.Context, q RemoveEditorRequestObject) (RemoveEditorResponseObject, error) {
	err := s.o.Store.RemoveEditor(ctx, account(ctx).ID, q.Editor)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("no-editor", "domicile editors lists them", "there is no editor %q", q.Editor)
	}
	return RemoveEditor204Response{}, err
}

// editorsAt are the links by which a person's editors open a place. One that was kept by an earlier
// version and cannot be filled in is left out.
func (s *Server) editorsAt(ctx context.Context, at editor.Place) (*[]EditorEntry, error) {
	own, err := s.o.Store.Editors(ctx, account(ctx).ID)
	if err != nil {
		return nil, err
	}
	list := []EditorEntry{}
	for _, e := range append(own, usualEditors...) {
		if url, err := editor.Link(e.Link, at); err == nil {
			list = append(list, EditorEntry{Name: e.Name, Url: url})
		}
	}
	return &list, nil
}
