// Package advice says where the time of a run went, and what would make the next one
// faster. It judges plain facts and asks nothing.
package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Step is a step of a run that has ended.
type Step struct {
	Name, Title string
	Took        time.Duration
	Done        bool // it was carried out, not skipped
	Attempts    int
	Commands    []string // of a lifecycle stage, in words
}

// What is not worth a word.
const (
	shortRun  = 5 * time.Second
	shortStep = 2 * time.Second
	smallPart = 0.1
)

// Where tells where the time went: the steps that took the most, each with its part of the
// whole. Nothing is told of a short run.
func Where(steps []Step) (list []string) {
	total := sum(steps)
	if total < shortRun {
		return nil
	}
	longest := slices.Clone(steps)
	slices.SortStableFunc(longest, func(a, b Step) int { return cmp.Compare(b.Took, a.Took) })
	for _, s := range longest[:min(len(longest), 3)] {
		if part := float64(s.Took) / float64(total); part >= smallPart {
			list = append(list, fmt.Sprintf("%.0f %% of %.1f s: %s (%.1f s)", part*100, total.Seconds(), s.Title, s.Took.Seconds()))
		}
	}
	return list
}

func sum(steps []Step) (total time.Duration) {
	for _, s := range steps {
		total += s.Took
	}
	return total
}

// installs are words of commands that install packages: they belong into the image, which
// all share.
var installs = []string{"apt-get install", "apt install", "apk add", "dnf install", "yum install"}

// Faster tells what would make the next run of the same source faster; preparable, that its site
// can make things ready ahead of time.
func Faster(steps []Step, source string, preparable bool) (list []string) {
	var ahead time.Duration
	for _, s := range steps {
		if !s.Done {
			continue
		}
		switch s.Name {
		case "image", "onCreateCommand", "updateContentCommand", "source":
			ahead += s.Took
		case "postCreateCommand", "postStartCommand":
			if s.Took >= shortStep && preparable {
				list = append(list, fmt.Sprintf("%s took %.1f s: what in it needs no person belongs into updateContentCommand, which can be done ahead", s.Name, s.Took.Seconds()))
			}
		}
		if s.Took >= shortStep && strings.HasSuffix(s.Name, "Command") && slices.ContainsFunc(s.Commands, func(c string) bool {
			return slices.ContainsFunc(installs, func(i string) bool { return strings.Contains(c, i) })
		}) {
			list = append(list, s.Name+" installs packages: in a Dockerfile or a feature they would be part of the image, which all workspaces share")
		}
		if s.Attempts > 1 {
			list = append(list, fmt.Sprintf("%q was tried %d times: what it asks was not reliable", s.Title, s.Attempts))
		}
	}
	if ahead >= shortRun && preparable {
		list = append(list, fmt.Sprintf("%.1f s of it can be done ahead of time: domicile prepare %s -follow", ahead.Seconds(), source))
	}
	return list
}
