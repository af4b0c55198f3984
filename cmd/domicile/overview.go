package main

import (
	"fmt"
	"io"
	"slices"
)

// group is what belongs together in the overview.
type group struct {
	title    string
	commands []command
}

// groups are in the order of the work: a definition, a workspace, working in it, keeping it,
// and then whose service it is. A group without a title is not for people.
func groups() []group {
	return []group{
		{"What a repository says", []command{checkCommand, templatesCommand, draftCommand, planCommand}},
		{"Workspaces", []command{provisionCommand, exampleCommand, listCommand, showCommand, followCommand, logCommand, startCommand, stopCommand, stayCommand, removeCommand}},
		{"Working in one", []command{shellCommand, editCommand, addressCommand, runCommand, portsCommand, webCommand, usherCommand, forwardCommand, screenCommand, checksCommand, tasksCommand, servicesCommand, helperCommand, inviteCommand, guestsCommand}},
		{"Later on", []command{driftCommand, compareCommand, rebuildCommand, moveCommand, snapshotsCommand, prepareCommand}},
		{"You", []command{loginCommand, logoutCommand, keysCommand, editorsCommand, personalCommand, authorCommand, secretsCommand, githostsCommand, passwordCommand, tokensCommand}},
		{"The service", append(slices.Clone(serviceCommands), sitesCommand, tidyCommand, hostKeyCommand, accountsCommand, signInsCommand, registriesCommand, versionCommand)},
		{"", append(slices.Clone(hiddenCommands), pipeCommand)},
	}
}

func commandNamed(name string) (command, bool) {
	for _, g := range groups() {
		for _, c := range g.commands {
			if c.name == name {
				return c, true
			}
		}
	}
	return command{}, false
}

func overview(w io.Writer) {
	fmt.Fprint(w, "Domicile makes a ready place to work of a repository that carries a dev container definition.\n\nUse: domicile COMMAND [FLAGS] [ARGUMENTS]\n")
	for _, g := range groups() {
		if g.title == "" {
			continue
		}
		fmt.Fprintf(w, "\n%s\n", g.title)
		for _, c := range g.commands {
			fmt.Fprintf(w, "  %-10s  %s\n", c.name, c.summary)
		}
	}
	fmt.Fprint(w, "\nMore on one of them: domicile COMMAND -h\n")
}
