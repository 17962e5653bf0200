//go:build linux

// Command lossyline runs two commands as if a long line lay between them on which packets get lost: each in a network of
// its own, which only this line leads out of. What waits, and what is sent once more, is then the system's doing, as it
// would be. It is for Linux, and root's.
//
//	lossyline DELAY LOSS THERE HERE      lossyline 25ms 0.01 './serve 10.77.0.2' './fetch 10.77.0.2'
//
// THERE has the address 10.77.0.2 and goes on until HERE, which has 10.77.0.1, has ended. Both are for sh, and loopback
// is up for either. DELAY is that of each way, LOSS the share of the packets of each way that do not arrive.
package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "lossyline:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 4 {
		return errors.New("say the delay, the share that is lost, and the two commands: lossyline 25ms 0.01 './serve 10.77.0.2' './fetch 10.77.0.2'")
	}
	delay, err := time.ParseDuration(args[0])
	if err != nil {
		return err
	}
	loss, err := strconv.ParseFloat(args[1], 64)
	if err != nil || loss < 0 || loss >= 1 {
		return fmt.Errorf("the share that is lost is from 0 to below 1, and not %q", args[1])
	}
	runtime.LockOSThread() // networks are a thread's, and those of what it starts
	there, server, err := network("10.77.0.2", args[2])
	if err != nil {
		return err
	}
	defer func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	}()
	here, client, err := network("10.77.0.1", args[3])
	if err != nil {
		return err
	}
	go carry(there, here, delay, loss)
	go carry(here, there, delay, loss)
	return client.Wait()
}

// network makes one with an end of the line in it, and starts a command there.
func network(address, command string) (*os.File, *exec.Cmd, error) {
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		return nil, nil, fmt.Errorf("make a network: %w", err)
	}
	end, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("open /dev/net/tun: %w", err)
	}
	request, err := unix.NewIfreq("line")
	if err != nil {
		return nil, nil, err
	}
	request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(end, unix.TUNSETIFF, request); err != nil {
		return nil, nil, fmt.Errorf("make an end of the line: %w", err)
	}
	out, err := exec.Command("sh", "-ec", "ip link set lo up; ip address add "+address+"/24 dev line; ip link set line txqueuelen 10000 up").CombinedOutput()
	if err != nil {
		return nil, nil, fmt.Errorf("ip: %s", out)
	}
	cmd := exec.Command("sh", "-c", "exec "+command)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, nil, err
	}
	return os.NewFile(uintptr(end), "line"), cmd, nil
}

// packet is what has come, and when it is to arrive.
type packet struct {
	data []byte
	at   time.Time
}

// carry takes packets from one end to the other, but for those that get lost.
func carry(to, from *os.File, delay time.Duration, loss float64) {
	under := make(chan packet, 1<<16) // more than are ever under way
	go func() {
		for p := range under {
			time.Sleep(time.Until(p.at))
			_, _ = to.Write(p.data) // who does not take it has lost it
		}
	}()
	for buffer := make([]byte, 1<<16); ; {
		n, err := from.Read(buffer)
		if err != nil {
			return
		}
		if rand.Float64() >= loss {
			under <- packet{append([]byte(nil), buffer[:n]...), time.Now().Add(delay)}
		}
	}
}
