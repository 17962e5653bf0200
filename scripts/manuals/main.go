// Command manuals writes the man pages of Initium into a folder, for scripts/build.
//
//	go run ./scripts/manuals DIR
package main

import (
	"fmt"
	"os"

	"initium/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: go run ./scripts/manuals DIR")
		os.Exit(2)
	}
	if err := cli.Manuals(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "write the man pages:", err)
		os.Exit(1)
	}
}
