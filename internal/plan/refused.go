package plan

import (
	"errors"
	"regexp"
	"strconv"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
)

// writtenAt is how a refusal begins that names a place.
var writtenAt = regexp.MustCompile(`^(\S+):(\d+): `)

// Refused tells, as problems of the definition, what a provision under a policy would refuse:
// who only checks learns it in the same words. services gives those of the Compose files. What
// an allowance would give is an error where the policy is known, else a warning. The zero Host
// is not known.
func Refused(r *definition.Report, services func() (*Services, error), policy, given judge.Policy, host Host, known bool) []definition.Problem {
	if r.HasErrors() || r.Effective == nil {
		return nil
	}
	in := Input{Name: "workspace", Policy: policy, Given: given, Host: host, Account: 1}
	if r.Kind == definition.KindCompose {
		all, err := services()
		if err != nil {
			return []definition.Problem{refused(err, r.File, true)}
		}
		in.Services = all
	}
	_, err := Make(r, in)
	var list judge.Refusals
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &list):
		return []definition.Problem{refused(err, r.File, true)}
	}
	out := make([]definition.Problem, 0, len(list))
	for _, f := range list {
		out = append(out, refused(f, r.File, known || f.Code != "not-allowed-here"))
	}
	return out
}

func refused(err error, file string, certain bool) definition.Problem {
	p := definition.Problem{Severity: definition.Error, Code: fault.Code(err), Message: err.Error(), File: file, Suggestion: fault.Remedy(err)}
	if !certain {
		p.Severity = definition.Warning
	}
	if at := writtenAt.FindStringSubmatch(p.Message); at != nil {
		p.File, p.Message = at[1], p.Message[len(at[0]):]
		p.Line, _ = strconv.Atoi(at[2])
		p.Column = 1
	}
	return p
}
