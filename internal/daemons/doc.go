// Package daemons starts real servers of this machine, PostgreSQL and a container engine,
// each with a data folder, a port or socket of its own, for the demo and for tests. They
// end with the process that started them.
package daemons
