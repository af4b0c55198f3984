package run

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/recipe"
	"domicile/internal/site"
)

// image brings or builds the images of the workspace and of its services.
func (c *carriage) image(ctx context.Context) (err error) {
	p := c.made.plan
	if c.made.image, err = c.oneImage(ctx, p.Image, p.Recipe); err != nil {
		return err
	}
	for _, s := range p.Services {
		i, err := c.oneImage(ctx, s.Image, s.Recipe)
		if err != nil {
			return fmt.Errorf("service %s: %w", s.Name, err)
		}
		c.made.image.Fetched = c.made.image.Fetched || i.Fetched
	}
	return nil
}

func (c *carriage) oneImage(ctx context.Context, reference string, r *recipe.Recipe) (i site.Image, err error) {
	if r == nil {
		return c.site.EnsureImage(ctx, reference, c.log.say)
	}
	files, err := c.featureFiles(ctx, r)
	if err != nil {
		return i, err
	}
	if err := c.needSource(ctx); err != nil {
		return i, err
	}
	secrets, alone := map[string]string(nil), "image "+c.workspace.Site+" "+r.Digest
	if r.Dockerfile != nil && len(r.Dockerfile.Secrets) > 0 {
		secrets = chosen(c.made.secrets, r.Dockerfile.Secrets)
		// Two builds at the same moment would share a step in which one's secret is read.
		alone = "image " + c.workspace.Site + " with secrets"
	}
	// Who needs the same image at the same moment, in this process or another replica of
	// the service, waits for the first and finds it there.
	err = c.o.Store.Alone(ctx, alone, func() error {
		i, err = c.site.EnsureBuilt(ctx, site.Build{Recipe: r, Source: c.made.checkout.Folder, Features: files, Secrets: secrets}, c.log.say)
		return err
	})
	return i, err
}

// featureFiles finds the files of a recipe's layers: exactly those that were planned.
func (c *carriage) featureFiles(ctx context.Context, r *recipe.Recipe) (list []fs.FS, err error) {
	if len(r.Layers) == 0 {
		return nil, nil
	}
	if err := c.needReport(ctx); err != nil {
		return nil, err
	}
	for _, l := range r.Layers {
		i := slices.IndexFunc(c.made.report.Features, func(f definition.Feature) bool { return f.Reference == l.Reference && f.Digest == l.Digest })
		if i < 0 {
			return nil, fault.New("feature-changed", "provision again", "the feature %s was published anew since the plan was made", l.Reference)
		}
		list = append(list, c.made.report.Features[i].Files())
	}
	return list, nil
}

// needReport reads the definition again where an earlier worker had read it.
func (c *carriage) needReport(ctx context.Context) error {
	if c.made.report != nil {
		return nil
	}
	if err := c.needSource(ctx); err != nil {
		return err
	}
	return c.read(ctx)
}

// needSource fetches the source again where an earlier worker's host had it.
func (c *carriage) needSource(ctx context.Context) error {
	if c.made.checkout.Folder != "" {
		if _, err := os.Stat(c.made.checkout.Folder); err == nil {
			return nil
		}
	}
	return c.fetch(ctx)
}

// services makes and starts services, each when those it waits for are as far as it
// wants. late chooses those that need the source.
func (c *carriage) services(ctx context.Context, id string, late bool) error {
	if err := c.setAside(ctx, id); err != nil {
		return err
	}
	if err := c.site.EnsureNetworks(ctx, id, c.made.plan.Networks); err != nil {
		return err
	}
	for _, v := range c.made.plan.Services {
		if v.Late != late {
			continue
		}
		if slices.ContainsFunc(v.Mounts, func(m plan.Mount) bool { return m.Type == "file" }) {
			if err := c.needSource(ctx); err != nil {
				return err
			}
		}
		if err := c.site.EnsureService(ctx, id, v.Digest(), v, c.made.checkout.Folder); err != nil {
			return err
		}
		if err := c.waitForServices(ctx, id, v.Name, v.After); err != nil {
			return err
		}
		if err := c.site.StartService(ctx, id, v.Name); err != nil {
			return err
		}
		c.log.say("started " + v.Name)
	}
	if late || c.made.plan.Container.Service == nil {
		return nil
	}
	return c.waitForServices(ctx, id, "the workspace", c.made.plan.Container.Service.After)
}
