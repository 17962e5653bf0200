package remote_test

import (
	"context"
	"fmt"
	"net"
	"net/textproto"
	"strings"
	"sync"
	"testing"

	"initium/internal/host/remote"
	"initium/internal/insist"
)

// A host that allows two connections is sent everything over these two. How large a file is it says only when it has
// turned another one away, so that more than two are asked for.
func TestHostThatAllowsFewConnections(t *testing.T) {
	t.Parallel()
	const allowed, files = 2, 20
	l, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	t.Cleanup(func() { l.Close() })
	turned, once, gate := make(chan struct{}), sync.Once{}, make(chan struct{}, allowed)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				c := textproto.NewConn(conn)
				defer c.Close()
				select {
				case gate <- struct{}{}:
					defer func() { <-gate }()
				default:
					_ = c.PrintfLine("421 too many connections")
					once.Do(func() { close(turned) })
					return
				}
				for say := "220 here"; c.PrintfLine("%s", say) == nil; {
					line, err := c.ReadLine()
					if err != nil {
						return
					}
					switch word, _, _ := strings.Cut(line, " "); word {
					case "USER":
						say = "230 come in"
					case "TYPE":
						say = "200 well"
					case "SIZE":
						<-turned
						say = "213 7"
					case "QUIT":
						say = "221 bye"
					default:
						say = "502 no"
					}
				}
			}()
		}
	}()
	a, err := remote.ParseAddress("ftp://" + l.Addr().String())
	insist.OK(t, err)
	h, _, err := remote.Dial(context.Background(), a, remote.Login{})
	insist.OK(t, err)
	answers := make(chan error, files)
	for range files {
		go func() {
			n, err := h.Size("/a")
			if err == nil && n != 7 {
				err = fmt.Errorf("%d bytes", n)
			}
			answers <- err
		}()
	}
	for range files {
		insist.OK(t, <-answers)
	}
	insist.OK(t, h.Close())
}
