// Package demo holds the made-up servers that the demo shows.
package demo

import "embed"

// FS has one folder for each server, and servers.toml that lists them. A folder
// whose name ends in .ride is packed into a file of that name when the demo is
// set up.
//
//go:embed all:harrow-sound all:lantern-moor all:cogwheel-fair all:nine-orchards servers.toml
var FS embed.FS

// Packed is the ending of folders that are packed.
const Packed = ".ride"
