package host_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"initium/internal/host"
	"initium/internal/insist"
)

// A process is told to listen where it does, and where what it has started does; nobody else's port is
// taken for its own.
func TestListening(t *testing.T) {
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	insist.OK(t, err)
	defer udp.Close()
	six, err := net.Listen("tcp", "[::1]:0")
	ports := []int{tcp.Addr().(*net.TCPAddr).Port, udp.LocalAddr().(*net.UDPAddr).Port}
	if err == nil { // a machine may have no IPv6
		defer six.Close()
		ports = append(ports, six.Addr().(*net.TCPAddr).Port)
	}
	got, err := host.Listening(os.Getpid())
	insist.OK(t, err)
	for _, port := range ports {
		insist.That(t, slices.Contains(got, port), "of %v the ports are %v", ports, got)
	}
	sleeper := exec.Command("/bin/sleep", "60") // which has started nothing
	insist.OK(t, sleeper.Start())
	defer sleeper.Wait()
	defer sleeper.Process.Kill()
	other, err := host.Listening(sleeper.Process.Pid)
	insist.OK(t, err)
	insist.Same(t, "ports of one that sleeps", len(other), 0)
	insist.OK(t, tcp.Close())
	got, err = host.Listening(os.Getpid())
	insist.OK(t, err)
	insist.That(t, !slices.Contains(got, ports[0]), "closed, and still told")
	_, err = host.Listening(1 << 30)
	insist.Fails(t, "of no process", err, "look which ports the server listens on")
}

func TestMapped(t *testing.T) {
	sleeper := exec.Command("/bin/sleep", "60")
	insist.OK(t, sleeper.Start())
	defer sleeper.Wait()
	defer sleeper.Process.Kill()
	program, err := filepath.EvalSymlinks("/bin/sleep")
	insist.OK(t, err)
	self, err := os.Executable()
	insist.OK(t, err)
	for { // it is this program until it has become the other
		got, err := host.Mapped(sleeper.Process.Pid)
		insist.OK(t, err)
		if slices.Contains(got, program) {
			insist.That(t, !slices.Contains(got, self), "of one that sleeps the files are %v", got)
			break
		}
	}
	got, err := host.Mapped(os.Getpid())
	insist.OK(t, err)
	insist.That(t, slices.Contains(got, self) && slices.Contains(got, program), "with what it has started the files are %v", got)
	_, err = host.Mapped(1 << 30)
	insist.Fails(t, "of no process", err, "look which files")
}

// One that computes has something to do, also when it was started by another that only waits; one that sleeps has
// nothing.
func TestWorking(t *testing.T) {
	for _, c := range []struct {
		script string
		want   bool
	}{
		{"while :; do :; done & wait", true},
		{"sleep 60 & wait", false},
	} {
		shell := exec.Command("/bin/sh", "-c", c.script)
		shell.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		insist.OK(t, shell.Start())
		end := func() { _ = syscall.Kill(-shell.Process.Pid, syscall.SIGKILL); _ = shell.Wait() }
		t.Cleanup(end)
		for host.Working(shell.Process.Pid) != c.want { // it begins by working
			time.Sleep(time.Millisecond)
		}
		end()
	}
	insist.That(t, !host.Working(1<<30), "a process that is nowhere works")
}
