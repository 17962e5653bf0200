package host

import (
	"fmt"
	"os"
	"slices"
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

// PortOf says by which protocols a process, or one that it has started, has a port open, in
// whatever network it is; "" when it has not, or that cannot be seen.
func PortOf(pid, port int) string {
	sockets := map[string]bool{}
	for _, p := range append(descendants(pid), pid) {
		files, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", p))
		for _, f := range files {
			if to, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/%s", p, f.Name())); err == nil {
				if inode, ok := strings.CutPrefix(to, "socket:["); ok {
					sockets[strings.TrimSuffix(inode, "]")] = true
				}
			}
		}
	}
	var open []string
	for _, protocol := range []string{"tcp", "udp"} {
		for _, six := range []string{"", "6"} {
			if slices.ContainsFunc(socketsAt(fmt.Sprintf("/proc/%d/net/%s%s", pid, protocol, six), port, protocol), func(inode string) bool { return sockets[inode] }) && !slices.Contains(open, protocol) {
				open = append(open, protocol)
			}
		}
	}
	return strings.Join(open, " and ")
}

func holds(table string, port int, protocol string) bool {
	return len(socketsAt(table, port, protocol)) > 0
}

// socketsAt are the inodes of the sockets that have a port open.
func socketsAt(table string, port int, protocol string) (inodes []string) {
	data, err := os.ReadFile(table)
	if err != nil {
		return nil
	}
	suffix := fmt.Sprintf(":%04X", port)
	for _, line := range strings.Split(string(data), "\n") {
		fields := strings.Fields(line) // number, local address, remote address, state
		if len(fields) < 10 || !strings.HasSuffix(fields[1], suffix) {
			continue
		}
		const listening = "0A"
		if protocol == "udp" || fields[3] == listening {
			inodes = append(inodes, fields[9])
		}
	}
	return inodes
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
