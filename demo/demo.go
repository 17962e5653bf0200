// Package demo holds the made-up servers that the demo shows.
package demo

import "embed"

// FS has one folder for each server.
//
//go:embed all:harrow-sound
var FS embed.FS
