// Command orderpairs orders the words of a file of pairs, each word before the one
// beside it, and prints them: what tsort(1) does, by the code that orders mods. It
// is there to be timed beside it.
package main

import (
	"bufio"
	"bytes"
	"fmt"
	"os"

	"initium/internal/core/order"
)

func main() {
	data, err := os.ReadFile(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	number := map[string]int32{}
	var words [][]byte
	var edges []order.Edge
	first := int32(-1)
	for len(data) > 0 {
		end := bytes.IndexAny(data, " \n")
		if end < 0 {
			end = len(data)
		}
		word := data[:end]
		data = data[min(end+1, len(data)):]
		if len(word) == 0 {
			continue
		}
		i, ok := number[string(word)]
		if !ok {
			i = int32(len(words))
			number[string(word)] = i
			words = append(words, word)
		}
		if first < 0 {
			first = i
			continue
		}
		edges = append(edges, order.Edge{From: first, To: i})
		first = -1
	}
	sorted := order.NewGraph(len(words), edges).Sort()
	if len(sorted) < len(words) {
		fmt.Fprintln(os.Stderr, "there are circles")
		os.Exit(1)
	}
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	for _, i := range sorted {
		out.Write(words[i])
		out.WriteByte('\n')
	}
}
