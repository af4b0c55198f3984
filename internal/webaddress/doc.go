// Package webaddress serves web addresses: one host name below the service's domain for each port of
// a workspace that has one. A browser that comes there reaches the program that listens inside, also
// one that listens on loopback alone.
//
// Each address is an origin of its own. Who may come in (the owner, the team, or whoever has a link
// for a time) is proved once and then known by a cookie of that host alone, which the program never
// sees. The console's session is never sent there, and what a program sets for a wider domain is
// narrowed to its own host. A page of another workspace cannot call a program in a visitor's name.
package webaddress
