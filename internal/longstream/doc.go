// Package longstream is a stream of bytes that outlives the connections that carry it: when one
// breaks, another takes its place, and no byte is lost or doubled. Each side keeps what the other has
// not confirmed yet, and says at the beginning of each connection how much it has.
//
// A connection carries frames: a byte with the kind, four with the length, and the payload.
package longstream
