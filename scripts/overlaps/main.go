// Command overlaps prints the paths that stand in more than one list: the first
// list is of the server's own files, each further one of a mod. It is there to be
// timed beside sort(1) and uniq(1), and asks the code that intake asks.
package main

import (
	"bufio"
	"fmt"
	"iter"
	"os"
	"strings"

	"initium/internal/core/intake"
)

func lines(name string) iter.Seq[string] {
	data, err := os.ReadFile(name)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	return strings.Lines(string(data))
}

func main() {
	var mods []intake.Brought
	for _, name := range os.Args[2:] {
		m := intake.Brought{Mod: name}
		for line := range lines(name) {
			m.Paths = append(m.Paths, line)
		}
		mods = append(mods, m)
	}
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	for _, s := range intake.Overlapping(lines(os.Args[1]), mods) {
		out.WriteString(s.Path)
	}
}
