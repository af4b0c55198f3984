// Package provider speaks with a provider of rented instances: its types and calls are generated
// from api/provider.yaml; here stands an account, which asks again where that may help, and takes
// no answer that cannot be true. docs/provider.md says what a provider must do.
package provider

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"domicile/internal/fault"
)

const (
	// askLimit bounds one call.
	askLimit = 30 * time.Second
	// mostAnswer bounds an answer, in bytes.
	mostAnswer = 4 << 20
	// mostTries is how often a call is made that the provider slows down, longestPause how long
	// it waits between two at most.
	mostTries    = 4
	longestPause = 10 * time.Second
	// mostPages bounds a list.
	mostPages = 1000
)

// Account is an account at a provider, in one region.
type Account struct {
	client *Client
	region string
	// Place is the provider's host and the region, for people.
	Place string
}

// ParseAddress reads the address of a region at a provider: https://HOST[:PORT][/PATH]/REGION.
// Without encryption only this machine's loopback is asked.
func ParseAddress(address string) (base, region string, err error) {
	wrong := func(why string) error {
		return fault.New("bad-address", "write it as https://HOST[:PORT]/REGION", "%q is no provider's address: %s", address, why)
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return "", "", wrong("it must be a host and a region")
	}
	at, parseErr := netip.ParseAddr(u.Hostname())
	loopback := u.Hostname() == "localhost" || parseErr == nil && at.IsLoopback()
	if u.Scheme != "https" && (u.Scheme != "http" || !loopback) {
		return "", "", wrong("an account's key is sent over https alone")
	}
	before, region := path.Split(strings.TrimSuffix(u.Path, "/"))
	if !known.MatchString(region) {
		return "", "", wrong("the region is missing")
	}
	u.Path = strings.TrimSuffix(before, "/")
	return u.String(), region, nil
}

// Open makes an account. Nothing is asked yet.
func Open(address, key string) (*Account, error) {
	base, region, err := ParseAddress(address)
	if err != nil {
		return nil, err
	}
	// Another place that the provider names is not asked: it would be given the key.
	plain := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	c, err := NewClient(base, WithHTTPClient(plain), WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+key)
		return nil
	}))
	if err != nil {
		return nil, fmt.Errorf("open an account at a provider: %w", err)
	}
	u, err := url.Parse(base)
	if err != nil {
		return nil, err
	}
	return &Account{client: c, region: region, Place: u.Host + ", region " + region}, nil
}

// known is what names of a provider look like: ids, regions, sizes, images.
var known = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// Offer is what can be rented.
func (a *Account) Offer(ctx context.Context) (Offer, error) {
	o, err := ask[Offer](ctx, a, "look at what is offered", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.GetOffer(ctx, a.region) })
	if fault.Code(err) == "instance-gone" {
		return o, fault.Wrap(errors.Unwrap(err), "no-region", "correct the address: https://HOST[:PORT]/REGION", "there is no provider with such a region: %s", a.Place)
	}
	if err != nil {
		return o, err
	}
	for _, s := range o.Sizes {
		if !known.MatchString(s.Name) || s.Processors < 1 || s.MemoryBytes < 1 || s.Hour < 0 || s.HourOff != nil && *s.HourOff < 0 {
			return o, a.nonsense("a size that cannot be: %+v", s)
		}
	}
	if !currency.MatchString(o.Currency) {
		return o, a.nonsense("the currency %q", o.Currency)
	}
	return o, nil
}

var currency = regexp.MustCompile(`^[A-Z]{3}$`)

// Create orders an instance, or finds that of the same token.
func (a *Account) Create(ctx context.Context, o Order) (Instance, error) {
	i, err := ask[Instance](ctx, a, "order an instance", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.CreateInstance(ctx, a.region, o) })
	if err == nil && i.Token != o.Token {
		err = a.nonsense("the instance of another order")
	}
	if err == nil {
		err = a.judge(i)
	}
	return i, err
}

// Instance finds an instance by its id; the error's code is instance-gone where there is none.
func (a *Account) Instance(ctx context.Context, id string) (Instance, error) {
	i, err := ask[Instance](ctx, a, "look at an instance", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.GetInstance(ctx, a.region, id) })
	if err == nil && i.Id != id {
		err = a.nonsense("another instance than was asked for")
	}
	if err == nil {
		err = a.judge(i)
	}
	return i, err
}

// Start has an instance run.
func (a *Account) Start(ctx context.Context, id string) error {
	_, err := ask[struct{}](ctx, a, "start an instance", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.StartInstance(ctx, a.region, id) })
	return err
}

// Stop turns an instance off.
func (a *Account) Stop(ctx context.Context, id string) error {
	_, err := ask[struct{}](ctx, a, "stop an instance", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.StopInstance(ctx, a.region, id) })
	return err
}

// Delete ends an instance for good; the error's code is instance-gone where there is none.
func (a *Account) Delete(ctx context.Context, id string) error {
	_, err := ask[struct{}](ctx, a, "end an instance", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.DeleteInstance(ctx, a.region, id) })
	return err
}

// List lists the instances with a tag, NAME=VALUE. Of one that is told twice, the whole list is
// not believed.
func (a *Account) List(ctx context.Context, tag string) (list []Instance, err error) {
	seen, q := map[string]bool{}, ListInstancesParams{Tag: &tag}
	for range mostPages {
		page, err := ask[InstanceList](ctx, a, "list the instances", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.ListInstances(ctx, a.region, &q) })
		if err != nil {
			return nil, err
		}
		for _, i := range page.Instances {
			if err := a.judge(i); err != nil {
				return nil, err
			}
			if seen[i.Id] {
				return nil, a.nonsense("the instance %s twice", i.Id)
			}
			seen[i.Id] = true
		}
		list = append(list, page.Instances...)
		if page.More == nil || !*page.More || len(page.Instances) == 0 {
			return list, nil
		}
		q.After = &page.Instances[len(page.Instances)-1].Id
	}
	return nil, a.nonsense("a list without end")
}

// Bill is what all instances have cost.
func (a *Account) Bill(ctx context.Context) (Bill, error) {
	return ask[Bill](ctx, a, "look at the bill", askLimit, func(ctx context.Context) (*http.Response, error) { return a.client.GetBill(ctx, a.region) })
}

// judge refuses an instance that cannot be.
func (a *Account) judge(i Instance) error {
	if !known.MatchString(i.Id) || i.Spent < 0 || !i.State.Valid() {
		return a.nonsense("an instance that cannot be: %q, %q", i.Id, i.State)
	}
	return nil
}

func (a *Account) nonsense(format string, args ...any) error {
	return fault.Transient(nil, "provider-nonsense", "ask the provider", "the provider at %s answers what cannot be true: %s", a.Place, fmt.Sprintf(format, args...))
}

// ask makes a call, again where the provider asks for a pause.
func ask[T any](ctx context.Context, a *Account, what string, limit time.Duration, call func(ctx context.Context) (*http.Response, error)) (v T, err error) {
	for try := 1; ; try++ {
		var pause time.Duration
		if v, pause, err = once[T](ctx, a, what, limit, call); pause == 0 || try == mostTries {
			return v, err
		}
		select {
		case <-time.After(min(pause, longestPause)):
		case <-ctx.Done():
			return v, errors.Join(ctx.Err(), err)
		}
	}
}

// once makes a call; pause is how long to wait before it is made again, 0: it is not.
func once[T any](ctx context.Context, a *Account, what string, limit time.Duration, call func(ctx context.Context) (*http.Response, error)) (v T, pause time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	r, err := call(ctx)
	if errors.Is(err, context.Canceled) {
		return v, 0, err
	}
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return v, 0, fault.Transient(err, "provider-away", "see whether it runs, and whether the service reaches it", "%s: the provider at %s does not answer", what, a.Place)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(io.LimitReader(r.Body, mostAnswer+1))
	switch {
	case err != nil:
		return v, 0, fault.Transient(err, "provider-away", "see whether it runs, and whether the service reaches it", "%s: the provider at %s does not answer to the end", what, a.Place)
	case len(body) > mostAnswer:
		return v, 0, a.nonsense("more than %d MB", mostAnswer>>20)
	case r.StatusCode >= 300:
		return v, pauseOf(r), a.refused(r, what, body)
	case len(body) == 0 && (r.StatusCode == http.StatusNoContent || r.StatusCode == http.StatusAccepted):
		return v, 0, nil
	}
	if err := json.Unmarshal(body, &v); err != nil {
		return v, 0, a.nonsense("%s: %v", what, err)
	}
	return v, 0, nil
}

// pauseOf is the pause that an answer asks for.
func pauseOf(r *http.Response) time.Duration {
	if r.StatusCode != http.StatusTooManyRequests {
		return 0
	}
	seconds, err := strconv.Atoi(r.Header.Get("Retry-After"))
	if err != nil || seconds < 1 {
		seconds = 1
	}
	return time.Duration(seconds) * time.Second
}

// refused says why a call was refused.
func (a *Account) refused(r *http.Response, what string, body []byte) error {
	var p Problem
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		p.Title = r.Status
	}
	said := fmt.Errorf("it says %q", p.Title)
	switch {
	case r.StatusCode == http.StatusUnauthorized || r.StatusCode == http.StatusForbidden:
		return fault.Wrap(said, "account-refused", "give the site another key: domicile sites change NAME -key FILE", "%s: the provider at %s does not take the account's key", what, a.Place)
	case r.StatusCode == http.StatusNotFound || r.StatusCode == http.StatusGone:
		return fault.Wrap(said, "instance-gone", "", "%s: the provider at %s has it not", what, a.Place)
	case p.Code == "quota":
		return fault.Wrap(said, "no-room", "stop or remove a workspace there, or ask the provider for more", "%s: the account at %s has as many instances as it may", what, a.Place)
	case p.Code == "no-capacity":
		return fault.Transient(said, "no-room", "try later, or choose another size or site", "%s: the provider at %s has no room", what, a.Place)
	case r.StatusCode == http.StatusTooManyRequests:
		return fault.Transient(said, "provider-away", "try later", "%s: the provider at %s was asked too often", what, a.Place)
	case r.StatusCode >= 500 || r.StatusCode < 400:
		return fault.Transient(said, "provider-away", "try later, or ask the provider", "%s: the provider at %s is out of order", what, a.Place)
	}
	return fault.Wrap(said, "provider-refused", "ask the provider", "%s: the provider at %s refuses it", what, a.Place)
}
