// Package demo holds the made-up servers that the demo shows, and what their
// operator has downloaded.
package demo

import (
	"embed"
	"strings"
)

// FS has one folder for each server, servers.toml that lists them, and downloads.
//
//go:embed all:harrow-sound all:lantern-moor all:cogwheel-fair all:nine-orchards all:downloads servers.toml
var FS embed.FS

// Packed tells the folders that are packed into an archive of their name when the
// demo is set up.
func Packed(name string) bool {
	return strings.HasSuffix(name, ".ride") || strings.HasSuffix(name, ".zip")
}
