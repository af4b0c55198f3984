// Package listening finds at which ports programs of this machine listen, and which programs
// these are.
//
// The kernel is asked for its listening sockets alone (sock_diag(7)): that costs the same however
// many connections there are. Where it does not answer that, /proc/net is read, which lists them
// all. Who holds a socket is found by looking through the open files of all processes, which costs
// more: it is for sockets that were not there before.
package listening
