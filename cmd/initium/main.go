// Command initium puts mods on dedicated servers and proves that they loaded.
package main

import (
	"os"

	"initium/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
