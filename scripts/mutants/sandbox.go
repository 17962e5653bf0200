package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A fault may have a program signal, write or remove what it should not. So each run
// has processes, a network and a /tmp of its own, and cannot write elsewhere. Only
// root can make such a sandbox.

// insideWord has this program prepare the sandbox that it was started in.
const insideWord = "inside-the-sandbox"

// sandboxed is a command that runs in a sandbox, in which only work and /tmp can be written.
func sandboxed(ctx context.Context, work, binary string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "/proc/self/exe", append([]string{insideWord, work, binary}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{
		Cloneflags: syscall.CLONE_NEWPID | syscall.CLONE_NEWNS | syscall.CLONE_NEWNET,
		Pdeathsig:  syscall.SIGKILL,
	}
	cmd.Env = append(os.Environ(), "HOME=/tmp/home", "XDG_CACHE_HOME=", "XDG_RUNTIME_DIR=")
	return cmd
}

// inside prepares the sandbox and runs a command in it, as the first process there.
func inside(args []string) int {
	work, command := args[0], args[1:]
	if err := prepare(work); err != nil {
		fmt.Fprintln(os.Stderr, "prepare the sandbox:", err)
		return 3
	}
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Start(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 3
	}
	for { // what has lost its parent becomes a child of the first process
		var ws syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &ws, 0, nil)
		switch {
		case err == syscall.EINTR:
		case err != nil:
			return 3
		case pid == cmd.Process.Pid && ws.Exited():
			return ws.ExitStatus()
		case pid == cmd.Process.Pid:
			return 4
		}
	}
}

func prepare(work string) error {
	steps := []struct {
		source, target, kind string
		flags                uintptr
	}{
		{"", "/", "", unix.MS_PRIVATE | unix.MS_REC},
		{work, work, "", unix.MS_BIND},
		{"", "/", "", unix.MS_REMOUNT | unix.MS_BIND | unix.MS_RDONLY},
		{"tmpfs", "/tmp", "tmpfs", 0},
		{"proc", "/proc", "proc", 0},
	}
	for _, s := range steps {
		if err := unix.Mount(s.source, s.target, s.kind, s.flags, ""); err != nil {
			return fmt.Errorf("mount %s: %w", s.target, err)
		}
	}
	if err := os.Mkdir("/tmp/home", 0o700); err != nil {
		return err
	}
	return loopbackUp()
}

// loopbackUp makes 127.0.0.1 work in a new network.
func loopbackUp() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.SIOCSIFFLAGS, uintptr(unsafe.Pointer(request))); e != 0 {
		return fmt.Errorf("bring up the loopback: %w", e)
	}
	return nil
}
