//go:build !linux || client

package main

// The client for laptops has no service in it.
var serviceCommands, hiddenCommands []command

// notHere are the service's commands.
var notHere = []string{"serve", "backup", "standin"}

func apartMain() {}
