package plan

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/judge"
	"domicile/internal/recipe"
)

var recipeRules = map[string]rule[recipe.Recipe]{
	"Base": {"Pulled", func(x *placed, r *recipe.Recipe) {
		if r.Base != "" {
			x.Pulled(x.at("Image", ""), r.Base)
		}
	}},
	"Dockerfile": {"each of its fields; images that it names: Pulled, by the builder", func(x *placed, r *recipe.Recipe) {
		if r.Dockerfile != nil {
			apply(x, r.Dockerfile, dockerfileRules)
		}
	}},
	"Pins": {"Pulled", func(x *placed, r *recipe.Recipe) {
		for _, name := range slices.Sorted(maps.Keys(r.Pins)) {
			x.Pulled("", r.Pins[name])
		}
	}},
	"Layers": {"each of its fields", func(x *placed, r *recipe.Recipe) {
		for i := range r.Layers {
			apply(x, &r.Layers[i], layerRules)
		}
	}},
	"RemoteUser":    {"User", func(x *placed, r *recipe.Recipe) { x.User(x.at("RemoteUser", ""), r.RemoteUser) }},
	"ContainerUser": {"User", func(x *placed, r *recipe.Recipe) { x.User(x.at("User", ""), r.ContainerUser) }},
	"Metadata":      {"harmless: text in a label of the image", nil},
	"User":          {"harmless: numbers of a user inside", nil},
	"Account": {"the subject's account", func(x *placed, r *recipe.Recipe) {
		if r.Account != 0 && r.Account != x.Account {
			x.Refuse("", "the image is another account's")
		}
	}},
	"Digest": {"Digest", func(x *placed, r *recipe.Recipe) { x.Digest("", r.Digest) }},
}

var dockerfileRules = map[string]rule[recipe.Dockerfile]{
	"Path":    {"RepositoryPath", func(x *placed, d *recipe.Dockerfile) { x.RepositoryPath(x.at("Dockerfile", ""), d.Path) }},
	"Context": {"RepositoryPath", func(x *placed, d *recipe.Dockerfile) { x.RepositoryPath(x.at("Dockerfile", ""), d.Context) }},
	"Args": {"Text", func(x *placed, d *recipe.Dockerfile) {
		for _, name := range slices.Sorted(maps.Keys(d.Args)) {
			x.Variable(x.at("Dockerfile", ""), name, d.Args[name])
		}
	}},
	"Target":    {"Text", func(x *placed, d *recipe.Dockerfile) { x.Text(x.at("Dockerfile", ""), d.Target) }},
	"CacheFrom": {"not carried out: no image is taken for a cache", nil},
	"Inline":    {"Text", func(x *placed, d *recipe.Dockerfile) { x.Text(x.at("Dockerfile", ""), d.Inline) }},
	"Contexts": {"RepositoryPath, or the image that one names: Pulled", func(x *placed, d *recipe.Dockerfile) {
		for _, name := range slices.Sorted(maps.Keys(d.Contexts)) {
			x.Text(x.at("Dockerfile", ""), name)
			if image, is := definition.ImageContext(d.Contexts[name]); is {
				x.Pulled(x.at("Dockerfile", ""), image)
			} else {
				x.RepositoryPath(x.at("Dockerfile", ""), d.Contexts[name])
			}
		}
	}},
	"Labels": {"Label", func(x *placed, d *recipe.Dockerfile) {
		all(x, "Dockerfile", slices.Sorted(maps.Keys(d.Labels)), x.Label)
	}},
	"Hosts":     {"HostEntry", func(x *placed, d *recipe.Dockerfile) { all(x, "Dockerfile", d.Hosts, x.HostEntry) }},
	"NoNetwork": {"harmless: no network", nil},
	"NoCache":   {"harmless: nothing is reused", nil},
	"Secrets": {"allowance build-secrets", func(x *placed, d *recipe.Dockerfile) {
		if len(d.Secrets) > 0 {
			x.Need(judge.AllowBuildSecrets, x.at("Dockerfile", ""), "its build asks for secrets (%s)", strings.Join(d.Secrets, ", "))
		}
	}},
	"Caches":  {"Domicile's own: that the image is one account's", nil},
	"Content": {"Domicile's own: a digest", nil},
}

var layerRules = map[string]rule[recipe.Layer]{
	"Reference": {"Domicile's own: the feature was fetched before, by its digest", nil},
	"Digest":    {"Domicile's own: the feature was fetched before, by its digest", nil},
	"Title":     {"harmless: for people", nil},
	"Env": {"Variable", func(x *placed, l *recipe.Layer) {
		for _, v := range l.Env {
			x.Variable("feature "+l.Title, v.Name, v.Value)
		}
	}},
	"Options": {"Variable", func(x *placed, l *recipe.Layer) {
		for _, name := range slices.Sorted(maps.Keys(l.Options)) {
			x.Variable("feature "+l.Title, name, l.Options[name])
		}
	}},
}

func judgeContainer(j *judge.Judge, c *Container) {
	apply(&placed{Judge: j, places: c.Places}, c, containerRules)
}

func judgeService(j *judge.Judge, v *Service) {
	apply(&placed{Judge: j, places: v.Places, before: "service " + v.Name}, v, serviceRules)
}

func judgeNetworks(j *judge.Judge, list []Network) {
	for i := range list {
		apply(&placed{Judge: j}, &list[i], networkRules)
	}
}

func judgeRecipe(j *judge.Judge, places Places, r *recipe.Recipe) {
	apply(&placed{Judge: j, places: places}, r, recipeRules)
}

// madeHere judges the image of a snapshot: only one of Domicile's own will do.
func madeHere(x *placed, name string) {
	if !slices.Contains(x.Images, name) {
		x.Refuse("", "the snapshot %s is not this workspace's", name)
	}
}

func variables(x *placed, env map[string]string) {
	for _, name := range slices.Sorted(maps.Keys(env)) {
		x.Variable(x.at("Env", name), name, env[name])
	}
}

// Rule is one row of the table of rules: a field that goes to a site, and what judges it.
type Rule struct{ Field, Rule string }

// Rules are all of them, and the fields that have none.
func Rules() (list []Rule, without []string) {
	list, without = rulesOf(list, without, containerRules)
	list, without = rulesOf(list, without, settingRules)
	list, without = rulesOf(list, without, serviceRules)
	list, without = rulesOf(list, without, networkRules)
	list, without = rulesOf(list, without, attachmentRules)
	list, without = rulesOf(list, without, dependencyRules)
	list, without = rulesOf(list, without, healthRules)
	list, without = rulesOf(list, without, recipeRules)
	list, without = rulesOf(list, without, dockerfileRules)
	list, without = rulesOf(list, without, layerRules)
	return list, without
}

func rulesOf[T any](list []Rule, without []string, rules map[string]rule[T]) ([]Rule, []string) {
	of := reflect.TypeFor[T]()
	for i := range of.NumField() {
		name := fmt.Sprintf("%s.%s", of.Name(), of.Field(i).Name)
		r, known := rules[of.Field(i).Name]
		if !known {
			without = append(without, name)
			continue
		}
		list = append(list, Rule{name, r.name})
	}
	return list, without
}
