package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"domicile/internal/site/machine/cloud/provider"
)

// The faults that can be ordered.
const (
	Refuse   = "refuse"    // it is out of order, and does nothing
	Cut      = "cut"       // the connection ends before anything is done
	Lose     = "lose"      // it is done, and the answer never comes
	SlowDown = "slow-down" // it is asked to wait a second
	Nonsense = "nonsense"  // it is done, and the answer is rubbish
	Repeat   = "repeat"    // it is done, and the answer has the id of another instance
	Late     = "late"      // the answer comes after a second
	Full     = "full"      // of createInstance: there is no room
	Fail     = "fail"      // of createInstance: the instance does not come to run
)

// Fault is a fault that is ordered.
type Fault struct {
	Call  string `json:"call"` // as the contract names it, such as createInstance; empty: any
	Kind  string `json:"kind"`
	Times int    `json:"times"`
}

// Order orders faults for the next calls.
func (c *Cloud) Order(faults ...Fault) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.faults = append(c.faults, faults...)
}

// Left is how many of the ordered faults have not come yet.
func (c *Cloud) Left() (n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range c.faults {
		n += f.Times
	}
	return n
}

// takeFault takes a fault that is ordered for a call. The lock is held.
func (c *Cloud) takeFault(call string, kinds ...string) bool { return c.next(call, kinds...) != "" }

func (c *Cloud) next(call string, kinds ...string) string {
	for n := range c.faults {
		f := &c.faults[n]
		if f.Times < 1 || f.Call != "" && !strings.EqualFold(f.Call, call) {
			continue
		}
		for _, kind := range kinds {
			if f.Kind == kind {
				f.Times--
				return kind
			}
		}
	}
	return ""
}

// failing is what has calls fail as it was ordered.
func (c *Cloud) failing(next provider.StrictHandlerFunc, call string) provider.StrictHandlerFunc {
	return func(ctx context.Context, w http.ResponseWriter, r *http.Request, request any) (any, error) {
		c.mu.Lock()
		kind := c.next(call, Refuse, Cut, Lose, SlowDown, Nonsense, Repeat, Late)
		c.mu.Unlock()
		switch kind {
		case Refuse:
			return nil, problem{http.StatusServiceUnavailable, "out-of-order", "it is out of order"}
		case SlowDown:
			w.Header().Set("Retry-After", "1")
			return nil, problem{http.StatusTooManyRequests, "too-often", "it is asked too often"}
		case Cut:
			panic(http.ErrAbortHandler)
		}
		answer, err := next(ctx, w, r, request)
		switch kind {
		case Lose:
			panic(http.ErrAbortHandler)
		case Late:
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		case Nonsense:
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write([]byte(`{"id": 7, "state": "somewhere", "sizes": "all of them"}`)) // whoever asked may be gone
			return nil, nil
		case Repeat:
			if made, is := answer.(provider.CreateInstance201JSONResponse); is {
				c.mu.Lock()
				made.Id = c.list[0].Now.Id
				c.mu.Unlock()
				answer = made
			}
		}
		return answer, err
	}
}

// Handler serves the contract, below any path, and the orders of faults.
func (c *Cloud) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			if !c.knows(q) {
				tell(w, badKey)
				return
			}
			next.ServeHTTP(w, q)
		})
	})
	r.Post("/faults", func(w http.ResponseWriter, q *http.Request) {
		var list []Fault
		if err := json.NewDecoder(http.MaxBytesReader(w, q.Body, 1<<20)).Decode(&list); err != nil {
			tell(w, problem{http.StatusBadRequest, "bad-order", err.Error()})
			return
		}
		c.Order(list...)
	})
	r.Post("/taken/{id}", func(w http.ResponseWriter, q *http.Request) {
		if err := c.TakeAway(chi.URLParam(q, "id")); err != nil {
			tell(w, problem{http.StatusNotFound, "no-such", err.Error()})
		}
	})
	strict := provider.NewStrictHandlerWithOptions(c, []provider.StrictMiddlewareFunc{c.failing}, provider.StrictHTTPServerOptions{
		RequestErrorHandlerFunc: func(w http.ResponseWriter, _ *http.Request, err error) {
			tell(w, problem{http.StatusBadRequest, "bad-order", err.Error()})
		},
		ResponseErrorHandlerFunc: func(w http.ResponseWriter, _ *http.Request, err error) { tell(w, err) },
	})
	provider.HandlerFromMux(strict, r)
	return r
}

// tell answers with what went wrong.
func tell(w http.ResponseWriter, err error) {
	p := problem{http.StatusInternalServerError, "out-of-order", "it is out of order"}
	_ = errors.As(err, &p) // else it is the stand-in's own mistake
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.status)
	_ = json.NewEncoder(w).Encode(provider.Problem{Code: p.code, Title: p.title}) // whoever asked may be gone
}
