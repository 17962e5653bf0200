package host

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/prometheus/procfs"
)

// Mapped are the files that a process, and all that it has started, hold in their memory: programs
// and libraries (proc_pid_maps(5)), by name. Those that were taken away since are not among them. The
// error says that none of them could be looked at.
func Mapped(pid int) ([]string, error) {
	files := map[string]bool{}
	err := overFamily(pid, func(p procfs.Proc) error {
		maps, err := p.ProcMaps()
		for _, m := range maps {
			if strings.HasPrefix(m.Pathname, "/") && !strings.HasSuffix(m.Pathname, " (deleted)") {
				files[m.Pathname] = true
			}
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("look which files the server holds in its memory: %w", err)
	}
	return slices.Sorted(maps.Keys(files)), nil
}

// What proc_net_tcp(5) calls a socket that is listened on, and one that is not connected.
const (
	tcpListens  = 0x0a
	unconnected = 0x07
)

// Listening are the ports on which a process, or one that it has started, waits for others: those of
// TCP that it listens on, and of UDP that it has taken. A port of somebody else is not among them. The
// error says that none of them could be looked at.
func Listening(pid int) ([]int, error) {
	ports := map[int]bool{}
	err := overFamily(pid, func(p procfs.Proc) error {
		targets, err := p.FileDescriptorTargets()
		if err != nil {
			return err
		}
		own := map[string]bool{}
		for _, t := range targets {
			if inode, ok := strings.CutPrefix(t, "socket:["); ok {
				own[strings.TrimSuffix(inode, "]")] = true
			}
		}
		its, err := procfs.NewFS("/proc/" + strconv.Itoa(p.PID)) // its own network
		if err != nil {
			return err
		}
		note := func(inode, state, port uint64, waits uint64) {
			if state == waits && own[strconv.FormatUint(inode, 10)] {
				ports[int(port)] = true
			}
		}
		//lint:ignore SA1019 a netlink socket tells of this program's own network, and the server may have another
		for _, read := range []func() (procfs.NetTCP, error){its.NetTCP, its.NetTCP6} {
			lines, err := read()
			if err != nil && !errors.Is(err, fs.ErrNotExist) { // a machine may have no IPv6
				return err
			}
			for _, l := range lines {
				note(l.Inode, l.St, l.LocalPort, tcpListens)
			}
		}
		for _, read := range []func() (procfs.NetUDP, error){its.NetUDP, its.NetUDP6} {
			lines, err := read()
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			for _, l := range lines {
				note(l.Inode, l.St, l.LocalPort, unconnected)
			}
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("look which ports the server listens on: %w", err)
	}
	return slices.Sorted(maps.Keys(ports)), nil
}

// Working tells whether a process, or one that it has started, has something to do right now: it computes, waits for
// a processor, or for a disk. On a machine that is short of either, one that is silent may only be slow.
func Working(pid int) bool {
	working := false
	_ = overFamily(pid, func(p procfs.Proc) error { // what cannot be looked at is not known to work
		threads, err := procfs.AllThreads(p.PID)
		for _, thread := range threads {
			// as proc_pid_stat(5) calls them: R runs or waits for a processor, D for a disk
			if s, err := thread.Stat(); err == nil && (s.State == "R" || s.State == "D") {
				working = true
			}
		}
		return err
	})
	return working
}

// overFamily looks at a process and all that it has started. One that may not be looked at, or that
// ends meanwhile, is passed over as long as another can be.
func overFamily(pid int, look func(procfs.Proc) error) (problem error) {
	seen := false
	for _, pid := range append([]int{pid}, descendants(pid)...) {
		p, err := procfs.NewProc(pid)
		if err == nil {
			err = look(p)
		}
		if err == nil {
			seen = true
		} else {
			problem = err
		}
	}
	if seen {
		return nil
	}
	return problem
}
