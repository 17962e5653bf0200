// Command initium puts mods on dedicated servers and proves that they loaded.
package main

import (
	"os"
	"runtime/debug"

	"initium/internal/cli"
)

// gcPercent lets the heap grow further than usual before it is cleaned up: what
// Initium gathers is small, and used at once.
const gcPercent = 300

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
