// Command overlaps prints the paths that stand in more than one list: the first
// list is of the server's own files, each further one of a mod. It is there to be
// timed beside sort(1) and uniq(1), and does what intake does with the record of a
// clean server.
package main

import (
	"bufio"
	"bytes"
	"fmt"
	"os"

	"initium/internal/core/intake"
)

func main() {
	var lists [][]byte
	var lines []int
	for _, name := range os.Args[1:] {
		data, err := os.ReadFile(name)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		lists = append(lists, data)
		lines = append(lines, bytes.Count(data, []byte("\n")))
	}
	mods := 0
	for _, n := range lines[1:] {
		mods += n
	}
	owners := intake.NewOwners(lines[0], mods)
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	for i, data := range lists {
		for line := range bytes.Lines(data) {
			path := string(bytes.TrimSuffix(line, []byte("\n")))
			if i == 0 {
				owners.Clean(path)
				continue
			}
			if owners.Of(path) != (intake.Owner{}) {
				out.Write(line)
			}
			owners.Put(path, os.Args[1+i])
		}
	}
}
