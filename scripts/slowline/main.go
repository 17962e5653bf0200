// Command slowline stands between two ends of a line on this machine, and lets what goes through wait, as a long line
// does: each piece for as long as it is told, in either direction, however many are under way.
//
//	slowline LISTEN TO DELAY [FILE]      slowline 127.0.0.1:2022 127.0.0.1:22 25ms
//
// Into FILE it writes a line with the bytes that have gone in either direction, whenever one of them has ended.
package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"time"
)

func main() {
	fmt.Fprintln(os.Stderr, "slowline:", run(os.Args[1:]))
	os.Exit(1)
}

// run stands there until something goes wrong.
func run(args []string) error {
	if len(args) != 3 && len(args) != 4 {
		return fmt.Errorf("say where to listen, where to go on to, and the delay: slowline 127.0.0.1:2022 127.0.0.1:22 25ms")
	}
	delay, err := time.ParseDuration(args[2])
	if err != nil {
		return err
	}
	var counts io.Writer = io.Discard
	if len(args) == 4 {
		if counts, err = os.OpenFile(args[3], os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644); err != nil {
			return err
		}
	}
	l, err := net.Listen("tcp", args[0])
	if err != nil {
		return err
	}
	for {
		conn, err := l.Accept()
		if err != nil {
			return err
		}
		on, err := net.Dial("tcp", args[1])
		if err != nil {
			conn.Close()
			continue
		}
		go func() { fmt.Fprintln(counts, slowly(on, conn, delay)) }()
		go func() { fmt.Fprintln(counts, slowly(conn, on, delay)) }()
	}
}

// piece is what has come, and when it is to go on.
type piece struct {
	data []byte
	at   time.Time
}

// slowly hands on what comes, each piece after the delay, and tells how many bytes that were. When one end is gone, so
// is the other.
func slowly(to, from net.Conn, delay time.Duration) (bytes int64) {
	const room = 4096 // pieces under way: far more than any window
	under := make(chan piece, room)
	go func() {
		defer close(under)
		for {
			data := make([]byte, 64<<10)
			n, err := from.Read(data)
			if n > 0 {
				under <- piece{data[:n], time.Now().Add(delay)}
			}
			if err != nil {
				return
			}
		}
	}()
	defer to.Close()
	defer from.Close()
	for p := range under {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.data); err != nil {
			_, _ = io.Copy(io.Discard, from) // until that end notices, too
			return bytes
		}
		bytes += int64(len(p.data))
	}
	return bytes
}
