package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"domicile/internal/credential"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// WebServer serves web addresses.
type WebServer interface {
	http.Handler
	// Label tells whether a host name is a web address, and gives its first part.
	Label(host string) (string, bool)
	// URL is where an address is, and how a path below it is called.
	URL(label, path string) string
	// Forget ends what goes on at an address, and has what it means looked up anew.
	Forget(label string)
}

const (
	// linkHours is how long a link holds that says nothing else.
	linkHours = 24
	// ticketLife is how long a browser may take to come in.
	ticketLife  = time.Minute
	webChanges  = 20 // that are shown
	longestName = 24 // of a word in an address, in characters
	// mostWebAddresses is how many a workspace has.
	mostWebAddresses = 100
)

var errNoWeb = fault.New("no-web", "domicile serve -web-domain NAME", "this service has no domain for web addresses")

// webPort reads a port as an address has it.
func webPort(text string) (definition.Port, error) {
	p, err := definition.ParsePort(text)
	if err != nil || p.Number == 0 {
		return p, fault.New("bad-port", "give it as 8080, or as db:8080 for another service of the workspace", "%q is no port", text)
	}
	if p.Host == "localhost" {
		p.Host = ""
	}
	return p, nil
}

// webAddress finds or makes the address of a port.
func (s *Server) webAddress(ctx context.Context, name, text string) (records.Workspace, records.WebAddress, error) {
	w, err := s.find(ctx, name)
	if err != nil {
		return w, records.WebAddress{}, err
	}
	if s.o.Web == nil {
		return w, records.WebAddress{}, errNoWeb
	}
	port, err := webPort(text)
	if err != nil {
		return w, records.WebAddress{}, err
	}
	p, err := s.o.Runner.PlanOf(ctx, w)
	if err != nil {
		return w, records.WebAddress{}, err
	}
	// The way to it leads through the workspace, and from there to anywhere: only what is the
	// workspace's own gets an address that others may come to.
	if port.Host != "" && !slices.ContainsFunc(p.Services, func(x plan.Service) bool { return x.Name == port.Host }) {
		return w, records.WebAddress{}, fault.New("no-service", "domicile services "+w.Name+" lists those that there are", "%s has no service %q", w.Name, port.Host)
	}
	rules := p.PortRules.Of(port, "")
	fresh := records.WebAddress{Workspace: w.ID, Account: w.Account, Port: port.String(), Label: webLabel(w.Name, rules.Label), Protocol: "http"}
	if rules.Protocol == "https" {
		fresh.Protocol = "https"
	}
	a, err := s.o.Store.AddWebAddress(ctx, fresh, mostWebAddresses)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("full", "domicile web "+w.Name+" PORT -close", "%s has %d web addresses already", w.Name, mostWebAddresses)
	}
	return w, a, err
}

var notInLabels = regexp.MustCompile(`[^a-z0-9]+`)

// webLabel is a new first part of a host name, of words by which people tell it from others and an
// end that nobody has had.
func webLabel(words ...string) string {
	var parts []string
	for _, word := range words {
		word = strings.Trim(notInLabels.ReplaceAllString(strings.ToLower(word), "-"), "-")
		if word = strings.Trim(word[:min(len(word), longestName)], "-"); word != "" {
			parts = append(parts, word)
		}
	}
	return strings.Join(append(parts, credential.NewName()), "-")
}

// ListWebAddresses lists the web addresses of a workspace.
func (s *Server) ListWebAddresses(ctx context.Context, q ListWebAddressesRequestObject) (ListWebAddressesResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	answer := ListWebAddresses200JSONResponse{}
	if s.o.Web == nil {
		return answer, nil
	}
	list, err := s.o.Store.WebAddresses(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		v, err := s.webView(ctx, a)
		if err != nil {
			return nil, err
		}
		answer = append(answer, v)
	}
	return answer, nil
}

func (s *Server) webView(ctx context.Context, a records.WebAddress) (WebAddress, error) {
	changes, err := s.o.Store.WebChanges(ctx, a.ID, webChanges)
	return WebAddress{Port: a.Port, Url: s.o.Web.URL(a.Label, "/"), Sharing: WebAddressSharing(a.Sharing), Until: a.Until, Password: a.Password != "", Local: a.Local, Created: a.Created,
		Changes: each(changes, func(c records.WebChange) WebChange { return WebChange{At: c.At, By: c.By, What: c.What} })}, err
}

// ShareWebAddress makes an address, or changes who may use it.
func (s *Server) ShareWebAddress(ctx context.Context, q ShareWebAddressRequestObject) (ShareWebAddressResponseObject, error) {
	_, a, err := s.webAddress(ctx, q.Name, q.Port)
	if err != nil {
		return nil, err
	}
	b := *q.Body
	link := ""
	a.Sharing, a.Local, a.Link, a.Until, a.Password = string(b.Sharing), value(b.Local), nil, nil, ""
	what := map[string]string{records.WebPrivate: "for the owner alone", records.WebTeam: "for the team"}[a.Sharing]
	switch {
	case a.Sharing == records.WebLink:
		hours := linkHours
		if b.Hours != nil {
			hours = min(max(*b.Hours, 1), 90*24)
		}
		link = credential.NewToken()
		until := time.Now().Add(time.Duration(hours) * time.Hour)
		a.Link, a.Until = credential.HashToken(link), &until
		what = "by a link until " + until.UTC().Format("2006-01-02 15:04 MST")
		if value(b.Password) != "" {
			if a.Password, err = s.hashed(ctx, *b.Password); err != nil {
				return nil, err
			}
			what += ", with a password"
		}
	case what == "":
		return nil, fault.New("bad-request", "one of private, team and link", "%q is no way to share", a.Sharing)
	case b.Hours != nil || value(b.Password) != "":
		return nil, fault.New("bad-request", "share it by a link", "hours and a password are for links")
	}
	if a.Local {
		what += "; called localhost"
	}
	a.ForcedProtocol = ""
	if b.Protocol != nil {
		a.ForcedProtocol = string(*b.Protocol)
		if a.ForcedProtocol != "http" && a.ForcedProtocol != "https" {
			return nil, fault.New("bad-request", "http or https", "%.40q is not a protocol of a web address", a.ForcedProtocol)
		}
		what += "; over " + a.ForcedProtocol
	}
	if err := s.o.Store.ShareWebAddress(ctx, a, account(ctx).ID, what); err != nil {
		return nil, err
	}
	s.o.Web.Forget(a.Label)
	v, err := s.webView(ctx, a)
	if link != "" {
		v.Link = new(s.o.Web.URL(a.Label, "/.domicile/enter?link="+url.QueryEscape(link)))
	}
	return ShareWebAddress200JSONResponse(v), err
}

// CloseWebAddress takes an address away.
func (s *Server) CloseWebAddress(ctx context.Context, q CloseWebAddressRequestObject) (CloseWebAddressResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	port, err := webPort(q.Port)
	if err != nil {
		return nil, err
	}
	a, err := s.o.Store.WebAddress(ctx, w.ID, port.String())
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("no-web-address", "domicile web "+w.Name+" lists those that there are", "port %s of %s has no web address", port, w.Name)
	}
	if err != nil {
		return nil, err
	}
	if err := s.o.Store.RemoveWebAddress(ctx, a.ID); err != nil {
		return nil, err
	}
	if s.o.Web != nil {
		s.o.Web.Forget(a.Label)
	}
	return CloseWebAddress204Response{}, nil
}

// OpenWebAddress lets the owner's browser in.
func (s *Server) OpenWebAddress(ctx context.Context, q OpenWebAddressRequestObject) (OpenWebAddressResponseObject, error) {
	_, a, err := s.webAddress(ctx, q.Name, q.Port)
	if err != nil {
		return nil, err
	}
	entry, err := s.ticket(ctx, a, "/")
	return OpenWebAddress200JSONResponse{Url: entry}, err
}

// EnterWebAddress lets in the browser of whoever may come.
func (s *Server) EnterWebAddress(ctx context.Context, q EnterWebAddressRequestObject) (EnterWebAddressResponseObject, error) {
	if s.o.Web == nil {
		return nil, errNoWeb
	}
	a, err := s.o.Store.WebAddressByLabel(ctx, q.Label)
	// Who may not come in learns nothing of it.
	if err == nil && a.Account != account(ctx).ID && a.Sharing != records.WebTeam {
		err = records.ErrNotFound
	}
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("no-web-address", "ask its owner to share it", "There is no such address, or it is not for you")
	}
	if err != nil {
		return nil, err
	}
	to := value(q.Params.To)
	entry, err := s.ticket(ctx, a, to)
	return EnterWebAddress200JSONResponse{Url: entry}, err
}

// ticket lets the caller's browser in, once.
func (s *Server) ticket(ctx context.Context, a records.WebAddress, to string) (string, error) {
	token := credential.NewToken()
	if err := s.o.Store.AddWebTicket(ctx, credential.HashToken(token), a.ID, credentialOf(ctx), time.Now().Add(ticketLife)); err != nil {
		return "", err
	}
	return s.o.Web.URL(a.Label, "/.domicile/enter?"+url.Values{"ticket": {token}, "to": {to}}.Encode()), nil
}
