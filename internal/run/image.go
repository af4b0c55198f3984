package run

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/recipe"
	"domicile/internal/records"
	"domicile/internal/site"

	"golang.org/x/sync/errgroup"
)

// imageStep brings the workspace's image, and those of the services beside it, to the site.
var imageStep = step{
	do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
		if c.out.plan.Container.Saved != "" {
			c.log.say("the snapshot that it begins with has it")
			return true, site.Image{}, nil
		}
		err := c.image(ctx)
		return err == nil && !c.out.image.Fetched, c.out.image, err
	},
	restore: func(m *outputs, result json.RawMessage) error { return json.Unmarshal(result, &m.image) },
}

// servicesStep makes and starts the services beside the workspace, lateServicesStep those
// that need its source.
var (
	servicesStep     = plain(func(c *execution, ctx context.Context, id string) error { return c.services(ctx, id, false) })
	lateServicesStep = plain(func(c *execution, ctx context.Context, id string) error { return c.services(ctx, id, true) })
)

// pullsAtOnce bounds how many images a run pulls side by side: unpacking is work for a
// processor.
const pullsAtOnce = 3

// wantedImage is an image of the workspace, or of a service.
type wantedImage struct {
	service   string // empty: the workspace's own
	reference string
	recipe    *recipe.Recipe
}

// image brings or builds the images of the workspace and of its services: those that are
// pulled side by side, and meanwhile those that are built one by one.
func (c *execution) image(ctx context.Context) error {
	p := c.out.plan
	wanted := []wantedImage{{"", p.Image, p.Recipe}}
	for _, s := range p.Services {
		same := func(w wantedImage) bool { return s.Recipe == nil && w.recipe == nil && w.reference == s.Image }
		if !slices.ContainsFunc(wanted, same) {
			wanted = append(wanted, wantedImage{s.Name, s.Image, s.Recipe})
		}
	}
	found := make([]site.Image, len(wanted))
	images, ctx := errgroup.WithContext(ctx) // the others are given up once one of them fails
	images.SetLimit(pullsAtOnce + 1)
	bring := func(i int, by func(context.Context, wantedImage) (site.Image, error)) (err error) {
		w := wanted[i]
		if found[i], err = by(ctx, w); err != nil && w.service != "" {
			err = fmt.Errorf("service %s: %w", w.service, err)
		}
		return err
	}
	images.Go(func() error { // one build after the other: each takes all processors
		for i, w := range wanted {
			if w.recipe == nil {
				continue
			}
			if err := bring(i, c.build); err != nil {
				return err
			}
		}
		return nil
	})
	for i, w := range wanted {
		if w.recipe == nil {
			images.Go(func() error { return bring(i, c.pull) })
		}
	}
	if err := images.Wait(); err != nil {
		return err
	}
	for _, i := range found {
		found[0].Fetched = found[0].Fetched || i.Fetched
	}
	c.out.image = found[0]
	return nil
}

// sayOf tells lines of the log whose they are, where they are a service's.
func (c *execution) sayOf(service string) func(string) {
	if service == "" {
		return c.log.say
	}
	return func(line string) { c.log.say(service + ": " + line) }
}

func (c *execution) pull(ctx context.Context, w wantedImage) (i site.Image, err error) {
	image, err := plan.JudgeImage(w.reference, judge.Subject{})
	if err != nil {
		return i, err
	}
	return c.at.EnsureImage(ctx, image, c.sayOf(w.service))
}

func (c *execution) build(ctx context.Context, w wantedImage) (i site.Image, err error) {
	r := w.recipe
	files, err := c.featureFiles(ctx, r)
	if err != nil {
		return i, err
	}
	if err := c.needSource(ctx); err != nil {
		return i, err
	}
	secrets, alone := map[string]string(nil), "image "+c.workspace.Site+" "+r.Digest
	if r.Dockerfile != nil && len(r.Dockerfile.Secrets) > 0 {
		secrets = chosen(c.out.secrets, r.Dockerfile.Secrets)
		// Two builds at the same moment would share a step in which one's secret is read.
		alone = "image " + c.workspace.Site + " with secrets"
	}
	// Who needs the same image at the same moment, in this process or another replica of
	// the service, waits for the first and finds it there.
	s, err := c.subject(ctx)
	if err != nil {
		return i, err
	}
	judged, err := plan.JudgeRecipe(r, s)
	if err != nil {
		return i, err
	}
	err = c.o.Store.Exclusively(ctx, alone, func() error {
		i, err = c.at.EnsureBuilt(ctx, site.Build{Recipe: judged, Source: c.out.checkout.Folder, Features: files, Secrets: secrets}, c.sayOf(w.service))
		return err
	})
	return i, err
}

// featureFiles finds the files of a recipe's layers: exactly those that were planned.
func (c *execution) featureFiles(ctx context.Context, r *recipe.Recipe) (list []fs.FS, err error) {
	if len(r.Layers) == 0 {
		return nil, nil
	}
	if err := c.needReport(ctx); err != nil {
		return nil, err
	}
	for _, l := range r.Layers {
		i := slices.IndexFunc(c.out.report.Features, func(f definition.Feature) bool { return f.Reference == l.Reference && f.Digest == l.Digest })
		if i < 0 {
			return nil, fault.New("feature-changed", "provision again", "the feature %s was published anew since the plan was made", l.Reference)
		}
		list = append(list, c.out.report.Features[i].Files())
	}
	return list, nil
}

// needReport reads the definition again where an earlier worker had read it.
func (c *execution) needReport(ctx context.Context) error {
	if c.out.report != nil {
		return nil
	}
	if err := c.needSource(ctx); err != nil {
		return err
	}
	return c.read(ctx)
}

// needSource fetches the source again where an earlier worker's host had it.
func (c *execution) needSource(ctx context.Context) error {
	if c.out.checkout.Folder != "" {
		if _, err := os.Stat(c.out.checkout.Folder); err == nil {
			return nil
		}
	}
	return c.fetch(ctx)
}

// makePlace makes the place for a workspace with services, where its site makes one.
func (c *execution) makePlace(ctx context.Context, id string, s judge.Subject) error {
	if c.at.can.Placer == nil {
		return nil
	}
	container, err := plan.JudgeContainer(c.out.plan.Container, s)
	if err != nil {
		return err
	}
	var beside []plan.Judged[plan.Service]
	for _, v := range c.out.plan.Services {
		judged, err := plan.JudgeService(v, s)
		if err != nil {
			return err
		}
		beside = append(beside, judged)
	}
	return c.at.can.Placer.EnsurePlace(ctx, id, container, beside)
}

// services makes and starts services, each when those it waits for are as far as it
// wants. late chooses those that need the source.
func (c *execution) services(ctx context.Context, id string, late bool) error {
	s, err := c.subject(ctx)
	if err != nil {
		return err
	}
	if err := c.makePlace(ctx, id, s); err != nil {
		return err
	}
	if err := c.networks(ctx, id, s); err != nil {
		return err
	}
	for _, v := range c.out.plan.Services {
		if v.Late != late {
			continue
		}
		if slices.ContainsFunc(v.Mounts, func(m plan.Mount) bool { return m.Type == "file" }) {
			if err := c.needSource(ctx); err != nil {
				return err
			}
		}
		judged, err := plan.JudgeService(v, s)
		if err != nil {
			return err
		}
		if err := c.at.can.Beside.EnsureService(ctx, id, v.Digest(), judged, c.out.checkout.Folder); err != nil {
			return err
		}
		if err := c.waitForServices(ctx, id, v.Name, v.After); err != nil {
			return err
		}
		if err := c.at.can.Beside.StartService(ctx, id, v.Name); err != nil {
			return err
		}
		c.log.say("started " + v.Name)
	}
	if late || c.out.plan.Container.Service == nil {
		return nil
	}
	// Those that need the source start behind the workspace itself: it is what brings that.
	after := slices.DeleteFunc(slices.Clone(c.out.plan.Container.Service.After), func(d plan.Dependency) bool {
		v, err := c.out.plan.ServiceByName(d.Service)
		return err == nil && v.Late
	})
	return c.waitForServices(ctx, id, "the workspace", after)
}
