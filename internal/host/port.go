package host

import (
	"fmt"
	"os"
	"strings"
)

// PortHeld says by which protocols ("tcp", "udp") a port of this machine is
// open, from the kernel's own tables (proc(5), /proc/net/tcp and its like); ""
// when it is free or the tables cannot be read. Nothing is opened to find out.
func PortHeld(port int) string {
	var held []string
	for _, protocol := range []string{"tcp", "udp"} {
		if holds("/proc/net/"+protocol, port, protocol) || holds("/proc/net/"+protocol+"6", port, protocol) {
			held = append(held, protocol)
		}
	}
	return strings.Join(held, " and ")
}

func holds(table string, port int, protocol string) bool {
	data, err := os.ReadFile(table)
	if err != nil {
		return false
	}
	suffix := fmt.Sprintf(":%04X", port)
	for _, line := range strings.Split(string(data), "\n") {
		fields := strings.Fields(line) // number, local address, remote address, state
		if len(fields) < 4 || !strings.HasSuffix(fields[1], suffix) {
			continue
		}
		const listening = "0A"
		if protocol == "udp" || fields[3] == listening {
			return true
		}
	}
	return false
}

// FreePort is the first port above one that nothing on this machine has open and
// that is not among those to be left; 0 when there is none.
func FreePort(above int, leave map[int]bool) int {
	for port := above + 1; port <= min(above+200, 65535); port++ {
		if !leave[port] && PortHeld(port) == "" {
			return port
		}
	}
	return 0
}
