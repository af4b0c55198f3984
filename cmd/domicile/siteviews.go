package main

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"domicile/internal/amount"
	"domicile/internal/client"
)

func printTrust(t *terminal, v client.HostTrust) {
	for _, h := range orNothing(v.Through) {
		fmt.Fprintf(t.out, "The host %s on the way is known by %s.\n", h.Host, h.Fingerprint)
	}
	if text(v.Before) == v.Fingerprint {
		fmt.Fprintf(t.out, "The host of %s shows the key that is pinned already: %s\n", v.Name, v.Fingerprint)
		return
	}
	fmt.Fprintf(t.out, "The host of %s is known by %s now, no longer by %s.\nCompare it there: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub\n", v.Name, v.Fingerprint, text(v.Before))
}

func printSites(t *terminal, list []client.Site) {
	table := newTable(t.out)
	table.row("NAME", "KIND", "STATE", "PROCESSORS", "MEMORY", "DISK FREE", "YOURS", "SIZES", "WHAT")
	for _, s := range list {
		state, what := "ready", text(s.Engine)+" on "+text(s.System)
		if s.Gpu != nil {
			what += ", with a graphics processor"
		}
		if !s.Ready {
			state, what = "not ready", text(s.Problem)
			if s.Since != nil {
				state += " for " + time.Since(*s.Since).Round(time.Second).String()
			}
		}
		if s.Slow != nil {
			state += ", slow"
		}
		if s.Drained != nil {
			state += ", drained"
		}
		table.row(s.Name, string(s.Kind), state, optionalNumber(s.Processors), optionalBytes(s.MemoryBytes), optionalBytes(s.DiskFreeBytes), fmt.Sprint(s.Workspaces), sizesOf(s), what)
	}
	table.flush()
	for _, s := range list {
		for _, said := range append(trustOf(s), saidOf(s)...) {
			fmt.Fprintf(t.out, "%s: %s\n", s.Name, said)
		}
		if s.Ready && s.Problem != nil {
			fmt.Fprintf(t.out, "%s: %s\n", s.Name, *s.Problem)
		}
		if s.Warning != nil {
			fmt.Fprintf(t.out, "%s: %s\n", s.Name, *s.Warning)
		}
		if s.Drained != nil {
			fmt.Fprintf(t.out, "%s: It takes nothing new; what is there goes on. When nothing is there any more: domicile sites remove %s\n", s.Name, s.Name)
		}
	}
}

// saidOf tells of a site what its row does not.
func saidOf(s client.Site) (list []string) {
	say := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	if s.Address != nil {
		where := "It is at " + *s.Address
		if s.Through != nil {
			where += ", by way of " + *s.Through
		}
		say("%s.", where)
	}
	if s.Spent != nil {
		say("What was rented there has cost %s %s until now.", s.Spent.Amount, s.Spent.Currency)
	}
	if s.Slow != nil && s.AnswerMillis != nil {
		say("It answers, and took %s for it.", time.Duration(*s.AnswerMillis)*time.Millisecond)
	}
	if s.PromisedBytes != nil && s.MemoryBytes != nil {
		say("%s of its memory are promised to workspaces that run; %s are left.", amount.Of(*s.PromisedBytes), amount.Of(max(0, *s.MemoryBytes-*s.PromisedBytes)))
	}
	if s.Unlimited != nil {
		say("%d run there without a limit.", *s.Unlimited)
	}
	if s.Most != nil {
		say("Of the workspaces there %d may run at a time.", *s.Most)
	}
	if s.Copies != nil {
		every, at, _ := strings.Cut(*s.Copies, "@")
		say("Copies of its workspaces are kept at %s every %s.", at, every)
	}
	if s.Alone != nil {
		say("Each workspace has a machine of its own there, in which a definition may ask for what would be too much elsewhere.")
	}
	if own := orNothing(s.Own); slices.Contains(own, "allow") {
		say("Definitions may ask for %s there.", orNone(strings.Join(orNothing(s.Allow), ", ")))
	}
	if s.Size != nil {
		say("A workspace that asks for no size is %s.", *s.Size)
	}
	if devices := orNothing(s.Devices); len(devices) > 0 {
		say("Devices: %s.", strings.Join(devices, ", "))
	}
	return list
}

func orNone(text string) string {
	if text == "" {
		return "nothing beyond the usual"
	}
	return text
}
