package cloud

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"domicile/internal/site/machine/cloud/provider"
)

// problem is an answer that is none.
type problem struct {
	status int
	code   string
	title  string
}

func (p problem) Error() string { return p.title }

func noSuch(id string) error {
	return problem{http.StatusNotFound, "no-such", fmt.Sprintf("there is no instance %q", id)}
}

// pageSize is how many instances a list has at most.
const pageSize = 25

// told is how long an instance that is gone is told of.
const told = time.Hour

func (c *Cloud) inRegion(region string) error {
	if region != c.o.Region {
		return noRegion(region)
	}
	return nil
}

func noRegion(region string) problem {
	return problem{http.StatusNotFound, "no-such", fmt.Sprintf("there is no region %q", region)}
}

// GetOffer tells what can be rented.
func (c *Cloud) GetOffer(_ context.Context, q provider.GetOfferRequestObject) (provider.GetOfferResponseObject, error) {
	if err := c.inRegion(q.Region); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return provider.GetOffer200JSONResponse{Currency: c.o.Currency, Sizes: c.o.Sizes, Images: []provider.Image{{Name: image, FirstProcess: new(true)}}, Disks: new(c.o.Disks != ""), Quota: provider.Quota{Instances: c.o.Quota, Used: c.used()}}, nil
}

func (c *Cloud) used() (n int) {
	for _, i := range c.list {
		if there(i) {
			n++
		}
	}
	return n
}

// CreateInstance makes an instance, or finds that of the token.
func (c *Cloud) CreateInstance(_ context.Context, q provider.CreateInstanceRequestObject) (provider.CreateInstanceResponseObject, error) {
	if err := c.inRegion(q.Region); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	o := *q.Body
	now := time.Now()
	for _, i := range c.list {
		if i.Now.Token == o.Token {
			v := i.Now
			v.Spent = i.spent(now)
			return provider.CreateInstance201JSONResponse(v), nil
		}
	}
	switch {
	case o.Token == "" || len(o.FirstBoot) > 16<<10 || o.Image != image || c.size(o.Size).Name == "":
		return nil, problem{http.StatusBadRequest, "bad-order", "there is no such size or image, or the order is not whole"}
	case o.Disk != nil && !c.hasDisk(*o.Disk, now):
		return nil, problem{http.StatusBadRequest, "bad-order", "there is no such disk"}
	case c.used() >= c.o.Quota:
		return nil, problem{http.StatusConflict, "quota", fmt.Sprintf("the account may have %d instances", c.o.Quota)}
	case c.takeFault("createInstance", Full):
		return nil, problem{http.StatusServiceUnavailable, "no-capacity", "there is no room for this size at the moment"}
	}
	i := &instance{Now: provider.Instance{Id: c.nextID(), Token: o.Token, State: provider.Pending, Size: o.Size, Tags: o.Tags, Created: now.UTC()}, Shown: now.Add(c.o.Lag), First: o.FirstBoot, Disk: orEmpty(o.Disk)}
	c.list = append(c.list, i)
	if err := c.keep(); err != nil {
		return nil, err
	}
	make := c.making(i)
	if c.takeFault("createInstance", Fail) {
		make = func(context.Context, string) error { return fmt.Errorf("the host of the instance did not start it") }
	}
	c.goOn(i, provider.Running, make)
	return provider.CreateInstance201JSONResponse(i.Now), nil
}

// ListInstances lists the instances with a tag.
func (c *Cloud) ListInstances(_ context.Context, q provider.ListInstancesRequestObject) (provider.ListInstancesResponseObject, error) {
	if err := c.inRegion(q.Region); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	name, value, _ := strings.Cut(orEmpty(q.Params.Tag), "=")
	page, after := provider.InstanceList{Instances: []provider.Instance{}}, orEmpty(q.Params.After)
	now := time.Now()
	for _, i := range c.list {
		switch v := c.shown(i, now); {
		case after != "":
			if i.Now.Id == after {
				after = ""
			}
		case v == nil || name != "" && v.Tags[name] != value || !there(i) && now.Sub(i.Shown) > told:
		case len(page.Instances) == pageSize:
			page.More = new(true)
			return provider.ListInstances200JSONResponse(page), nil
		default:
			page.Instances = append(page.Instances, *v)
		}
	}
	return provider.ListInstances200JSONResponse(page), nil
}

func orEmpty(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

// GetInstance tells of one instance.
func (c *Cloud) GetInstance(_ context.Context, q provider.GetInstanceRequestObject) (provider.GetInstanceResponseObject, error) {
	if err := c.inRegion(q.Region); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	i, now := c.find(q.Id), time.Now()
	if i == nil || !there(i) && now.Sub(i.Shown) > told {
		return nil, noSuch(q.Id)
	}
	v := c.shown(i, now)
	if v == nil {
		return nil, noSuch(q.Id)
	}
	return provider.GetInstance200JSONResponse(*v), nil
}

// DeleteInstance ends an instance.
func (c *Cloud) DeleteInstance(_ context.Context, q provider.DeleteInstanceRequestObject) (provider.DeleteInstanceResponseObject, error) {
	if err := c.inRegion(q.Region); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	i := c.find(q.Id)
	if i == nil || c.shown(i, time.Now()) == nil {
		return nil, noSuch(q.Id)
	}
	if i.Now.State != provider.Gone {
		if err := c.end(i, "it was ended by who rented it"); err != nil {
			return nil, err
		}
	}
	return provider.DeleteInstance204Response{}, nil
}

// StartInstance has an instance run.
func (c *Cloud) StartInstance(_ context.Context, q provider.StartInstanceRequestObject) (provider.StartInstanceResponseObject, error) {
	return provider.StartInstance202Response{}, c.turn(q.Region, q.Id, provider.Pending, provider.Running, c.o.Computers.Start)
}

// StopInstance turns an instance off.
func (c *Cloud) StopInstance(_ context.Context, q provider.StopInstanceRequestObject) (provider.StopInstanceResponseObject, error) {
	return provider.StopInstance202Response{}, c.turn(q.Region, q.Id, provider.Stopping, provider.Stopped, c.o.Computers.Stop)
}

// turn has an instance be in a state, by way of another, unless it is in one of them.
func (c *Cloud) turn(region, id string, by, to provider.InstanceState, do func(ctx context.Context, id string) error) error {
	if err := c.inRegion(region); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	i := c.find(id)
	if i == nil || !there(i) {
		return noSuch(id)
	}
	if i.Now.State == by || i.Now.State == to {
		return nil
	}
	if err := c.set(i, by, ""); err != nil {
		return err
	}
	c.goOn(i, to, do)
	return nil
}

// GetBill tells what everything has cost.
func (c *Cloud) GetBill(_ context.Context, q provider.GetBillRequestObject) (provider.GetBillResponseObject, error) {
	if err := c.inRegion(q.Region); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	bill, now := provider.Bill{Currency: c.o.Currency, Lines: []provider.BillLine{}}, time.Now()
	for _, i := range c.list {
		l := provider.BillLine{Instance: i.Now.Id, Token: i.Now.Token, Open: there(i), Amount: i.spent(now)}
		bill.Lines, bill.Total = append(bill.Lines, l), bill.Total+l.Amount
	}
	return provider.GetBill200JSONResponse(bill), nil
}
