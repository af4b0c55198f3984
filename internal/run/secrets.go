package run

import (
	"context"
	"slices"

	"domicile/internal/mask"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// withSecrets are the stages that a person's secrets are given to: those that run when a
// person is known (the standard's "Lifecycle"). Earlier ones may run ahead of time.
var withSecrets = []string{"postCreateCommand", "postStartCommand", "postAttachCommand"}

// openSecrets opens what must not be printed: all of the owner's secrets for the source,
// and how the owner signs in to the git host.
func (c *execution) openSecrets(ctx context.Context) error {
	var err error
	if c.out.secrets, err = c.secretsOf(ctx, c.workspace); err != nil {
		return err
	}
	var hidden []string
	for _, value := range c.out.secrets {
		hidden = append(hidden, value)
	}
	address, err := source.Parse(c.workspace.Source)
	if err == nil && address.Git != "" {
		login, err := c.o.Vault.Login(ctx, c.workspace.Account, address.Host())
		if err != nil {
			return err
		}
		if login != nil {
			hidden = append(hidden, login.Token, login.Key)
		}
	}
	c.log.mask = mask.New(hidden...)
	return nil
}

// secretsOf opens all secrets that a workspace's owner keeps for its source, by name.
func (r *Runner) secretsOf(ctx context.Context, w records.Workspace) (map[string]string, error) {
	list, err := r.o.Store.SecretsFor(ctx, w.Account, w.Source)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, s := range list {
		names = append(names, s.Name)
	}
	return r.o.Vault.Secrets(ctx, w.Account, w.Source, names)
}

// secretsFor are the secrets that a stage gets: those that the definition asks for.
func (c *execution) secretsFor(stage string) map[string]string {
	if !slices.Contains(withSecrets, stage) || c.kind().impersonal {
		return nil
	}
	return chosen(c.out.secrets, c.out.plan.Secrets)
}

func chosen(all map[string]string, names []string) map[string]string {
	some := map[string]string{}
	for _, name := range names {
		if value, has := all[name]; has {
			some[name] = value
		}
	}
	return some
}

// tellMissing says which secrets the definition asks for and nobody keeps.
func (c *execution) tellMissing(p *plan.Plan) {
	for _, name := range p.Secrets {
		if _, has := c.out.secrets[name]; !has {
			c.log.say("the definition asks for the secret " + name + ", which you do not keep for this source; to give it: domicile secrets set " + name + " -for " + c.workspace.Source)
		}
	}
}
