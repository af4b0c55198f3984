//go:build !linux || client

package main

// The client for laptops has no service in it.
var serviceCommands, hiddenCommands []command

func apartMain() {}
