package host

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"syscall"

	"golang.org/x/sys/unix"
)

// isolated lets a process begin in a network of its own, in which nothing is but itself: no port
// is taken there, and nobody can be reached from it (network_namespaces(7)). Who is not root needs
// users of his own for that, which not every machine grants.
func isolated(attr *syscall.SysProcAttr) *syscall.SysProcAttr {
	attr.Cloneflags |= syscall.CLONE_NEWNET
	if uid, gid := os.Geteuid(), os.Getegid(); uid != 0 {
		attr.Cloneflags |= syscall.CLONE_NEWUSER
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: uid, HostID: uid, Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: gid, HostID: gid, Size: 1}}
		attr.AmbientCaps = []uintptr{unix.CAP_NET_ADMIN} // to bring the loopback up
	}
	return attr
}

// CanIsolate tells whether a server can be started in a network of its own; the error says why
// not.
func CanIsolate() error {
	cmd := exec.Command("/bin/sh", "-c", ":")
	cmd.SysProcAttr = isolated(&syscall.SysProcAttr{})
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("this machine grants no network of its own: %w", err)
	}
	return nil
}

// maxAddresses bounds how many addresses a network of its own gets.
const maxAddresses = 32

// Addresses are those that this machine has besides loopback (IPv4), as a server may be told to
// listen on one of them.
func Addresses() (list []string) {
	all, _ := net.InterfaceAddrs() // without them it has loopback
	for _, a := range all {
		if ip, ok := a.(*net.IPNet); ok && ip.IP.To4() != nil && !ip.IP.IsLoopback() && len(list) < maxAddresses {
			list = append(list, ip.IP.String())
		}
	}
	return list
}

// loopbackUp brings up the one device that a new network has, gives it addresses besides its own, and
// gives up the right to do so.
func loopbackUp(addresses []string) error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	lo, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	lo.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	if err := unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, lo); err != nil {
		return fmt.Errorf("bring the loopback up: %w", err)
	}
	for i, address := range addresses {
		alias, err := unix.NewIfreq(fmt.Sprintf("lo:%d", i))
		if err != nil {
			return err
		}
		if err := alias.SetInet4Addr(net.ParseIP(address).To4()); err != nil {
			return fmt.Errorf("the address %s: %w", address, err)
		}
		if err := unix.IoctlIfreq(fd, unix.SIOCSIFADDR, alias); err != nil {
			return fmt.Errorf("have the address %s in the network: %w", address, err)
		}
	}
	return unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
}
