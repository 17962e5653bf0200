package host_test

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
	"initium/internal/lack"
)

// TestMain lets the test binary be the keeper and the server too.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "keeper" {
		if err := host.Keep(host.StartDir(os.Args[2])); err != nil {
			os.Exit(3)
		}
		os.Exit(0)
	}
	if len(os.Args) > 1 && os.Args[1] == "server" {
		serve(os.Args[2:])
	}
	os.Exit(m.Run())
}

// serve is a server that says what it hears until it is told to go, and behaves as
// badly as it is told to.
func serve(how []string) {
	if slices.Contains(how, "deaf") { // to signals
		signal.Ignore(syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	}
	fmt.Println("up in", os.Getenv("PLACE"))
	for _, word := range how {
		switch word {
		case "silent":
			os.Stdout.Close()
			os.Stderr.Close()
		case "dies":
			os.Exit(9)
		case "background", "leaves":
			child := exec.Command(os.Args[0], "server", "child")
			child.Stdout, child.SysProcAttr = os.Stdout, &syscall.SysProcAttr{Setsid: true}
			if err := child.Start(); err != nil {
				os.Exit(8)
			}
			if word == "background" {
				os.Exit(0)
			}
		case "child", "unreading":
			time.Sleep(time.Hour)
		case "listens": // on an address that the next word is
			at := how[slices.Index(how, word)+1]
			_, err := net.Listen("tcp", net.JoinHostPort(at, "7007"))
			own, err2 := net.Listen("tcp", "127.0.0.1:7007")
			fmt.Println("listens:", err, err2, own != nil)
		case "flood":
			line := append(bytes.Repeat([]byte("a line of a flood "), 6), '\n')
			all := bytes.Repeat(line, 600)
			for range 1000 {
				os.Stdout.Write(all)
			}
			fmt.Println("the flood is over")
		case "endless":
			os.Stdout.Write(bytes.Repeat([]byte{'x'}, 70<<20))
			fmt.Println(" and over")
		}
	}
	scan := bufio.NewScanner(os.Stdin)
	for scan.Scan() {
		switch line := scan.Text(); line {
		case "go":
			os.Exit(0)
		case "crash":
			os.Exit(7)
		default:
			fmt.Println("heard", line)
		}
	}
	os.Exit(1)
}

// tooLate is when what is waited for will not come any more, be the machine as busy as it may.
const tooLate = 2 * time.Minute

// kept is a server under a keeper.
type kept struct {
	*testing.T
	home host.Home
	dir  host.StartDir
	f    *host.Follower
	got  strings.Builder
}

// begin starts a server under a keeper.
func begin(t *testing.T, change func(*host.Spec)) *kept {
	t.Helper()
	k := prepare(t, change)
	exe, err := os.Executable()
	insist.OK(t, err)
	insist.OK(t, k.dir.Launch(exe))
	return k
}

func prepare(t *testing.T, change func(*host.Spec)) *kept {
	t.Helper()
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	exe, err := os.Executable()
	insist.OK(t, err)
	k := &kept{T: t, home: host.Home{Dir: t.TempDir()}}
	spec := host.Spec{Server: "s", Command: []string{exe, "server"}, Dir: t.TempDir(), Env: []string{"PLACE=harbour"}, Console: "go", Patience: 5 * time.Second}
	if change != nil {
		change(&spec)
	}
	if k.dir, _, err = k.home.Prepare(spec); err != nil {
		t.Fatal(err)
	}
	insist.OK(t, k.dir.PutExpected(host.Expected{}))
	k.follow(k.dir)
	t.Cleanup(func() {
		if k.home.IsRunning("s") {
			k.home.StopServer(context.Background(), "s")
		}
	})
	return k
}

func (k *kept) follow(dir host.StartDir) {
	k.dir, k.f = dir, dir.Follow()
	k.got.Reset()
	k.Cleanup(k.f.Close)
}

// log waits until the log has a text.
func (k *kept) log(want string) string {
	k.Helper()
	for end := time.Now().Add(tooLate); time.Now().Before(end); k.f.Wait(context.Background(), 50*time.Millisecond) {
		for more := true; more; {
			var err error
			if more, err = k.f.Next(func(chunk []byte, at time.Duration) {
				if at < 0 || at > time.Minute {
					k.Errorf("a piece arrived after %s", at)
				}
				k.got.Write(chunk)
			}); err != nil {
				k.Fatal(err)
			}
		}
		if strings.Contains(k.got.String(), want) {
			return k.got.String()
		}
	}
	got := k.got.String()
	k.Fatalf("the log never says %q: %.300q", want, got[max(len(got)-300, 0):])
	return ""
}

// exit waits for the end of the server.
func (k *kept) exit() host.Exit {
	k.Helper()
	for end := time.Now().Add(tooLate); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if running := k.home.IsRunning("s"); running {
			continue
		}
		if exit, ok := k.dir.Exit(); ok && exit.Again == nil {
			return exit
		}
	}
	k.Fatal("the end is not noticed")
	return host.Exit{}
}

func (k *kept) say(line string) {
	k.Helper()
	insist.OK(k, k.dir.Say(line))
}

// noSecond looks that no second server is started beside the one that runs.
func (k *kept) noSecond() {
	k.Helper()
	exe, err := os.Executable()
	insist.OK(k, err)
	second, _, err := k.home.Prepare(host.Spec{Server: "s", Command: []string{exe, "server"}})
	insist.OK(k, err)
	defer second.Remove()
	if err := second.Launch(exe); err == nil || !strings.Contains(err.Error(), "running already") {
		k.Errorf("a second start gives %v", err)
		second.Stop(context.Background())
	}
}

func with(words ...string) func(*host.Spec) {
	return func(s *host.Spec) { s.Command = append(s.Command, words...) }
}

func TestKeeper(t *testing.T) {
	for _, terminal := range []bool{false, true} {
		k := begin(t, func(s *host.Spec) { s.Terminal = terminal })
		k.log("up in harbour\n")
		insist.That(t, k.home.IsRunning("s"), "the server is not seen to run")
		k.noSecond()
		k.say("one\ntwo")
		insist.Same(t, fmt.Sprintf("on a terminal %v", terminal), k.log("heard one two\n"), "up in harbour\nheard one two\n")
		exit, err := k.dir.Stop(context.Background())
		insist.That(t, err == nil && exit.How == host.EndedStop && exit.Status == 0 && exit.Lasted > 0, "stopping gives %+v, %v", exit, err)
		k.exit()
		running, err := k.dir.Running()
		insist.OK(t, err)
		for end := time.Now().Add(tooLate); ; time.Sleep(5 * time.Millisecond) {
			if _, err := os.Stat(fmt.Sprint("/proc/", running.Keeper)); err != nil {
				break
			}
			insist.Need(t, !time.Now().After(end), "its keeper is still there, if only by its number")
		}
		if again, err := k.home.StopServer(context.Background(), "s"); err != nil || again.Status != exit.Status || again.How != exit.How {
			t.Errorf("stopping again gives %+v, %v", again, err)
		}
	}
}

func TestKeeperAndBadServers(t *testing.T) {
	quick := func(words ...string) func(*host.Spec) {
		return func(s *host.Spec) { s.Command, s.Patience = append(s.Command, words...), 100*time.Millisecond }
	}
	stop := func(k *kept) {
		insist.OK(k, insist.Err(k.home.StopServer(context.Background(), "s")))
	}
	for name, test := range map[string]struct {
		spec func(*host.Spec)
		do   func(*kept)
		want host.Exit
	}{
		"crashes":                  {nil, func(k *kept) { k.say("crash") }, host.Exit{Status: 7, How: host.EndedItself}},
		"does not listen":          {func(s *host.Spec) { s.Console, s.Patience = "please", 100*time.Millisecond }, stop, host.Exit{Status: -1, How: host.EndedKill}},
		"is deaf to signals":       {func(s *host.Spec) { quick("deaf")(s); s.Console, s.Signal = "", "INT" }, stop, host.Exit{Status: -1, How: host.EndedKill}},
		"closes its output":        {with("silent"), stop, host.Exit{How: host.EndedStop}},
		"dies at once":             {with("dies"), func(*kept) {}, host.Exit{Status: 9, How: host.EndedItself}},
		"leaves a child":           {with("leaves"), func(k *kept) { k.say("crash") }, host.Exit{Status: 7, How: host.EndedItself, Left: 1}},
		"leaves a child, stopped":  {with("leaves"), stop, host.Exit{How: host.EndedStop, Left: 1}},
		"does not read, by signal": {func(s *host.Spec) { s.Command, s.Console = append(s.Command, "unreading"), "" }, stop, host.Exit{Status: -1, How: host.EndedStop}},
	} {
		t.Run(name, func(t *testing.T) {
			k := begin(t, test.spec)
			k.log("up")
			test.do(k)
			got := k.exit()
			insist.That(t, got.Status == test.want.Status && got.How == test.want.How && got.Left == test.want.Left, "it ended %+v, want %+v", got, test.want)
		})
	}
}

// A server that goes into the background is still the server.
func TestKeeperOfABackgroundServer(t *testing.T) {
	k := begin(t, func(s *host.Spec) { s.Command, s.Console = append(s.Command, "background"), "" })
	k.log("up in harbour\nup in harbour\n")
	running, err := k.dir.Running()
	insist.OK(t, err)
	for end := time.Now().Add(tooLate); ; time.Sleep(time.Millisecond) { // until the parent has ended
		if _, err := os.Stat(fmt.Sprintf("/proc/%d", running.Server)); err != nil {
			break
		}
		insist.Need(t, !time.Now().After(end), "it does not go into the background")
	}
	insist.Need(t, k.home.IsRunning("s"), "it is not seen to run")
	if _, ended := k.dir.Exit(); ended {
		t.Error("it is said to have ended")
	}
	insist.OK(t, insist.Err(k.home.StopServer(context.Background(), "s")))
	if exit := k.exit(); exit.How != host.EndedStop {
		t.Errorf("it ended %+v", exit)
	}
}

func TestKeeperCannotStart(t *testing.T) {
	k := prepare(t, func(s *host.Spec) { s.Command = []string{"/nowhere/at/all"} })
	exe, _ := os.Executable()
	insist.Fails(t, "error", k.dir.Launch(exe), "no such file")
	k.exit()
}

// Where the place that the keeper listens at is taken by something else, the server is not
// started, and that is said.
func TestKeeperCannotListen(t *testing.T) {
	k := prepare(t, nil)
	socket, err := k.home.SocketFor("s")
	insist.OK(t, err)
	put(t, filepath.Join(socket, "x"), "", 0o600)
	exe, _ := os.Executable()
	insist.Fails(t, "error", k.dir.Launch(exe), "listen unix")
	if exit := k.exit(); exit.How != host.EndedNever || !strings.Contains(exit.Error, "listen unix") {
		t.Errorf("it ended %+v", exit)
	}
	insist.Holds(t, "the log", k.ownLog(), "level=ERROR msg=\"a server could not be started\" server=s start=00001 error=\"listen unix")
}

// ownLog is what Initium has logged of itself.
func (k *kept) ownLog() string {
	var all strings.Builder
	insist.OK(k, k.home.ReadLog(&all))
	return all.String()
}

// A keeper is reached wherever its socket is, also where the path is longer than an address
// may be.
func TestSocketsFarDown(t *testing.T) {
	k := prepare(t, nil)
	deep := filepath.Join(t.TempDir(), strings.Repeat("deep/", 40))
	insist.OK(t, os.MkdirAll(deep, 0o700))
	t.Setenv("XDG_RUNTIME_DIR", deep)
	exe, err := os.Executable()
	insist.OK(t, err)
	dir, _, err := k.home.Prepare(host.Spec{Server: "s", Command: []string{exe, "server"}, Dir: t.TempDir(), Console: "go", Patience: 5 * time.Second})
	insist.OK(t, err)
	k.follow(dir)
	insist.OK(t, dir.Launch(exe))
	k.log("up")
	k.say("hello")
	k.log("heard hello")
	insist.OK(t, insist.Err(k.home.StopServer(t.Context(), "s")))
	for end := time.Now().Add(tooLate); len(within(deep, "initium/*")) > 0; time.Sleep(time.Millisecond) { // until the keeper has ended, too
		insist.Need(t, !time.Now().After(end), "left are %v", within(deep, "initium/*"))
	}
}

// A server in a network of its own has the addresses of the machine in it and any port, is stopped
// and spoken to as any, and reaches nobody.
func TestIsolated(t *testing.T) {
	if err := host.CanIsolate(); err != nil {
		t.Skip(err) // no package would bring it
	}
	l, err := net.Listen("tcp", "127.0.0.1:7007")
	if err == nil {
		defer l.Close()
	}
	k := begin(t, func(s *host.Spec) {
		s.Command, s.Isolated, s.Address = append(s.Command, "listens", "198.51.100.7"), true, []string{"203.0.113.9", "198.51.100.7"}
	})
	k.log("listens: <nil> <nil> true\n")
	running, err := k.dir.Running()
	insist.OK(t, err)
	insist.Same(t, "open in its network", host.PortOf(running.Server, 7007), "tcp")
	insist.Same(t, "another", host.PortOf(running.Server, 7008), "")
	insist.Same(t, "of this process", host.PortOf(os.Getpid(), 7007), map[bool]string{true: "tcp"}[l != nil])
	k.say("hello")
	k.log("heard hello")
	insist.OK(t, insist.Err(k.home.StopServer(t.Context(), "s")))
	for _, address := range host.Addresses() {
		insist.That(t, net.ParseIP(address).To4() != nil && !strings.HasPrefix(address, "127."), "an address is %s", address)
	}
	bad := prepare(t, func(s *host.Spec) { s.Isolated, s.Address = true, []string{"nowhere"} })
	exe, _ := os.Executable()
	insist.Fails(t, "an address that is none", bad.dir.Launch(exe), "the address nowhere")
}

// A server makes its files with the rights that it would have without a keeper.
func TestServersOwnRights(t *testing.T) {
	mask := syscall.Umask(0o027)
	defer syscall.Umask(mask)
	k := begin(t, func(s *host.Spec) { s.Command = []string{"/bin/sh", "-c", "echo mask $(umask); read line"} })
	insist.Same(t, "the server", k.log("\n"), "mask 0027\n")
	k.say("go")
	k.exit()
}

// Each order on the socket has one answer, and one that is none changes nothing.
func TestOrders(t *testing.T) {
	k := begin(t, nil)
	k.log("up")
	socket, err := k.home.SocketFor("s")
	insist.OK(t, err)
	t.Chdir(filepath.Dir(socket)) // the address of a socket is short
	conn, err := net.Dial("unix", filepath.Base(socket))
	insist.OK(t, err)
	defer conn.Close()
	answers := bufio.NewScanner(conn)
	for _, test := range []struct{ order, want string }{{"guard 0", "ok"}, {"guard -1", `error "-1" is no number of starts`}, {"guard x", `error "x" is no number of starts`}, {"dance", `error unknown order "dance"`}, {"say go", "ok"}} {
		fmt.Fprintln(conn, test.order)
		if answers.Scan(); answers.Text() != test.want {
			t.Errorf("%s: %q, want %q", test.order, answers.Text(), test.want)
		}
	}
	k.exit()
	insist.Same(t, "of a server that ended well the log", k.ownLog(), "")
}

// What a crashed server has left behind is ended, and the server that is started after that
// is not taken for it.
func TestWhatACrashLeaves(t *testing.T) {
	k := begin(t, func(s *host.Spec) {
		s.Console, s.Pauses = "", host.Pauses{First: time.Millisecond}
		s.Command = []string{"/bin/sh", "-c", `if [ -e x ]; then i=0; while :; do echo up for $i; i=$((i+1)); sleep 0.5; done; fi
			: >x; (trap "" TERM; exec sleep 60) & echo up; read line; exit 3`}
	})
	k.log("up")
	insist.OK(t, k.dir.Guard(1))
	k.say("crash")
	if crashed := k.nextStart(); crashed.Status != 3 || crashed.Left != 1 {
		t.Errorf("it crashed: %+v", crashed)
	}
	k.log("up for 7")
	insist.Holds(t, "the log", k.ownLog(), "level=WARN msg=\"a server has ended by itself\" server=s start=00001 status=3", "again=true")
	insist.OK(t, insist.Err(k.home.StopServer(t.Context(), "s")))
}

// After a crash a server is started again, in a start of its own, as often as was
// said and no more.
func TestKeeperStartsAgain(t *testing.T) {
	k := begin(t, nil)
	insist.OK(t, k.dir.Guard(2))
	k.log("up")
	first := k.dir
	for n := range 2 {
		k.say("crash")
		next := 0
		for end := time.Now().Add(tooLate); next == 0 && time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
			exit, _ := k.dir.Exit()
			next = exit.Next
			if state, err := k.home.State("s"); err != nil || !state.Up {
				t.Fatalf("after crash %d it is %+v, %v", n+1, state, err)
			}
		}
		k.follow(k.home.Start("s", next))
		k.log("up")
	}
	k.say("crash")
	if exit := k.exit(); exit.Status != 7 || exit.Next != 0 {
		t.Errorf("the last crash: %+v", exit)
	}
	if numbers, err := k.home.Starts("s"); err != nil || len(numbers) != 3 {
		t.Errorf("starts %v, %v", numbers, err)
	}
	if exit, _ := first.Exit(); exit.Next != 2 {
		t.Errorf("the first start was followed by %d", exit.Next)
	}
}

// A server that ends as it should is not started again, whatever guards it.
func TestKeeperLetsGo(t *testing.T) {
	k := begin(t, nil)
	insist.OK(t, k.dir.Guard(2))
	k.log("up")
	k.say("go")
	if exit := k.exit(); exit.Status != 0 || exit.How != host.EndedItself || exit.Next != 0 {
		t.Errorf("it ended %+v", exit)
	}
	if numbers, err := k.home.Starts("s"); err != nil || len(numbers) != 1 {
		t.Errorf("starts %v, %v", numbers, err)
	}
}

// nextStart waits until the server has been started again after a crash, and follows that.
func (k *kept) nextStart() (crashed host.Exit) {
	k.Helper()
	for end := time.Now().Add(tooLate); crashed.Next == 0; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			k.Fatalf("it is not started again: %+v", crashed)
		}
		crashed, _ = k.dir.Exit()
	}
	k.follow(k.home.Start("s", crashed.Next))
	k.log("up")
	return crashed
}

// Each pause before another start is twice as long as the one before, up to a limit; a
// server that stayed up for a while, and a guard that is set anew, begin with the first.
func TestPausesGrow(t *testing.T) {
	const first, most, steady = 20 * time.Millisecond, 100 * time.Millisecond, 2 * time.Second
	k := begin(t, func(s *host.Spec) { s.Pauses = host.Pauses{First: first, Most: most, Steady: steady} })
	n := 0 // crashes in a row, as anybody would count them
	guard := func(times int) {
		t.Helper()
		insist.OK(t, k.dir.Guard(times))
		n = 0
	}
	crash := func() {
		t.Helper()
		k.say("crash")
		exit := k.nextStart()
		if exit.Lasted > steady {
			n = 0
		}
		want := []time.Duration{first, 2 * first, 4 * first, most, most, most, most}[n]
		if n++; exit.Again == nil || exit.Again.Sub(exit.At) != want {
			t.Errorf("after %d crashes in a row it is started again after a pause of %v, want %v", n, exit.Again.Sub(exit.At), want)
		}
	}
	k.log("up")
	guard(6)
	for range 5 {
		crash()
	}
	guard(6)
	crash()
	crash()
	for age := time.Duration(0); age <= steady+200*time.Millisecond; time.Sleep(10 * time.Millisecond) {
		age, _ = k.dir.Age()
	}
	crash()
	if exit, ok := k.dir.Exit(); ok || n != 1 {
		t.Errorf("after a while it crashes %d times in a row; %+v", n, exit)
	}
}

// waits waits until the server waits to be started again.
func (k *kept) waits() {
	k.Helper()
	for end := time.Now().Add(tooLate); ; time.Sleep(time.Millisecond) {
		if state, err := k.home.State("s"); err == nil && state.Waiting {
			if !state.Up || state.Exit == nil || state.Exit.Again == nil {
				k.Errorf("while it waits it is %+v", state)
			}
			return
		} else if time.Now().After(end) {
			k.Fatalf("it is not seen to wait: %+v, %v", state, err)
		}
	}
}

// A server whose keeper is killed while it waits is down, and is not said to be started
// again.
func TestKeeperIsKilledWhileItWaits(t *testing.T) {
	k := begin(t, func(s *host.Spec) { s.Pauses.First = time.Hour })
	k.log("up")
	insist.OK(t, k.dir.Guard(1))
	k.say("crash")
	k.waits()
	running, err := k.dir.Running()
	insist.OK(t, err)
	insist.OK(t, syscall.Kill(running.Keeper, syscall.SIGKILL))
	if exit := k.exit(); exit.Status != 7 || exit.Again != nil {
		t.Errorf("it ended %+v", exit)
	}
	if state, err := k.home.State("s"); err != nil || state.Up || state.Waiting || state.Exit == nil || state.Exit.Again != nil {
		t.Errorf("the state is %+v, %v", state, err)
	}
	if exit, err := k.home.StopServer(context.Background(), "s"); err != nil || exit.Status != 7 {
		t.Errorf("stopping gives %+v, %v", exit, err)
	}
}

// Somebody who is no child of the server may hold what it prints into open: its end is
// seen all the same.
func TestKeeperWithAHeldPipe(t *testing.T) {
	k := begin(t, nil)
	k.log("up")
	running, err := k.dir.Running()
	insist.OK(t, err)
	held, err := os.OpenFile(fmt.Sprintf("/proc/%d/fd/1", running.Server), os.O_WRONLY, 0)
	insist.OK(t, err)
	defer held.Close()
	k.say("crash")
	if exit := k.exit(); exit.Status != 7 {
		t.Errorf("it ended %+v", exit)
	}
}

// What has no line ends does not make one piece of a log grow for ever.
func TestEndlessLine(t *testing.T) {
	k := begin(t, with("endless"))
	if got := k.log(" and over\n"); len(got) != len("up in harbour\n and over\n")+70<<20 {
		t.Errorf("%d bytes are read", len(got))
	}
	if info, err := os.Stat(k.dir.Log()); err != nil || info.Size() > 33<<20 {
		t.Errorf("the first piece has %d bytes, %v", info.Size(), err)
	}
}

// A server that waits to be started again stays down when it is stopped.
func TestStopWhileWaiting(t *testing.T) {
	k := begin(t, func(s *host.Spec) { s.Pauses.First = time.Hour })
	insist.OK(t, k.dir.Guard(1))
	k.log("up")
	k.say("crash")
	k.waits()
	insist.Fails(t, "speaking to it", k.dir.Say("hello"), "down")
	if exit, err := k.home.StopServer(context.Background(), "s"); err != nil || exit.Status != 7 {
		t.Errorf("stopping gives %+v, %v", exit, err)
	}
	k.exit()
	if numbers, _ := k.home.Starts("s"); len(numbers) != 1 {
		t.Errorf("starts %v", numbers)
	}
}

// When its keeper is killed, a server is found again as long as it lives, no second
// one is started, and it can be stopped.
func TestKeeperIsKilled(t *testing.T) {
	for name, words := range map[string][]string{"lives on": {"deaf", "unreading"}, "dies with it": nil} {
		t.Run(name, func(t *testing.T) {
			k := begin(t, func(s *host.Spec) { s.Command, s.Patience = append(s.Command, words...), 100*time.Millisecond })
			k.log("up")
			running, err := k.dir.Running()
			insist.OK(t, err)
			insist.OK(t, syscall.Kill(running.Keeper, syscall.SIGKILL))
			if words == nil {
				if exit := k.exit(); exit.How != host.EndedUnseen || exit.Error == "" {
					t.Errorf("it ended %+v", exit)
				}
				return
			}
			var state host.State
			for end := time.Now().Add(5 * time.Second); state.Lost == nil && time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
				if state, err = k.home.State("s"); err != nil {
					t.Fatal(err)
				}
			}
			insist.Need(t, state.Up && len(state.Lost) == 1 && state.Lost[0] == running.Server, "the server is %+v, its process %d", state, running.Server)
			insist.Fails(t, "speaking to it", k.dir.Say("hello"), "keeper was ended")
			k.noSecond()
			exit, err := k.home.StopServer(context.Background(), "s")
			insist.That(t, err == nil && exit.How == host.EndedKill, "stopping gives %+v, %v", exit, err)
			insist.That(t, !k.home.IsRunning("s"), "it still runs")
			// What the keeper has left behind is in nobody's way.
			exe, err := os.Executable()
			insist.OK(t, err)
			second, _, err := k.home.Prepare(host.Spec{Server: "s", Command: []string{exe, "server"}, Dir: t.TempDir(), Console: "go", Patience: 5 * time.Second})
			insist.OK(t, err)
			insist.OK(t, second.Launch(exe))
			k.follow(second)
			k.log("up")
			k.say("hello")
			k.log("heard hello")
		})
	}
}

// Many look at a flood at once: each reads every line once, also when pieces are
// packed while they read, and whoever comes later.
func TestFlood(t *testing.T) {
	k := begin(t, with("flood"))
	const lines = 600_000
	check := func(who, got string) {
		t.Helper()
		if n := strings.Count(got, "\n"); n != lines+2 || strings.Count(got, "\na line of a flood") != lines {
			t.Errorf("%s reads %d lines", who, n)
		}
	}
	other := &kept{T: t, home: k.home}
	other.follow(k.dir)
	done := make(chan string)
	go func() { done <- other.log("the flood is over\n") }()
	check("the first", k.log("the flood is over\n"))
	check("the second", <-done)
	late := &kept{T: t, home: k.home}
	late.follow(k.dir)
	check("one that comes later", late.log("the flood is over\n"))
	insist.OK(t, insist.Err(k.dir.Stop(context.Background())))
	k.exit()
	packed := within(string(k.dir), "log.*.zst")
	plain := within(string(k.dir), "log.0????")
	insist.That(t, len(packed) == 2 && len(plain) == 1, "packed %v, plain %v", packed, plain)
	whole := host.OpenLog(k.dir.Log())
	defer whole.Close()
	var all bytes.Buffer
	insist.OK(t, insist.Err(all.ReadFrom(whole)))
	check("one who reads the whole", all.String())
	// A piece that is not kept any more leaves its lines without text.
	os.Remove(packed[0])
	gap := host.OpenLog(k.dir.Log())
	defer gap.Close()
	all.Reset()
	insist.OK(t, insist.Err(all.ReadFrom(gap)))
	if n := bytes.Count(all.Bytes(), []byte("\n")); n != lines+2 || !bytes.Contains(all.Bytes(), []byte("lines from here on are not kept any more\n\n")) {
		t.Errorf("with a piece gone there are %d lines", n)
	}
	late.follow(k.dir)
	insist.Same(t, "with a piece gone a follower", strings.Count(late.log("the flood is over\n"), "\n"), lines+2)
}

// What a server writes into files of its own is part of its log, whatever becomes of
// the files.
func TestLogFiles(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "server.log")
	write := func(flags int, data string) {
		t.Helper()
		f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|flags, 0o600)
		insist.OK(t, err)
		defer f.Close()
		insist.OK(t, insist.Err(f.WriteString(data)))
	}
	write(0, "of an earlier start\n")
	k := begin(t, func(s *host.Spec) { s.Files = []string{file, filepath.Join(dir, "later", "other.log")} })
	k.log("up in harbour\n")
	write(os.O_APPEND, "added\nhalf a ")
	k.log("added\n")
	k.say("between")
	k.log("heard between\n")
	write(os.O_APPEND, "line\n")
	k.log("half a line\n")
	write(os.O_TRUNC, "anew\n")
	k.log("anew\n")
	insist.OK(t, os.Rename(file, file+".1"))
	write(0, "turned\n")
	k.log("turned\n")
	insist.OK(t, os.Mkdir(filepath.Join(dir, "later"), 0o700))
	file = filepath.Join(dir, "later", "other.log")
	write(0, "of a folder that came later\nwithout an end")
	k.log("of a folder that came later\n")
	insist.OK(t, insist.Err(k.dir.Stop(context.Background())))
	if got, want := k.log("without an end\n"), "up in harbour\nadded\nheard between\nhalf a line\nanew\nturned\nof a folder that came later\nwithout an end\n"; got != want {
		t.Errorf("the log is %q, want %q", got, want)
	}
}

// A server may cut its log off when it starts, and be at once as far as it was before,
// or write the same once more; one that is only touched has nothing new in it.
func TestLogFileCutOffAtTheStart(t *testing.T) {
	for script, want := range map[string]string{
		"printf 'in a\\nhot\\n' >\"$LOG\"":                         "in a\nhot\n",
		"printf 'in b\\nhot\\n' >\"$LOG\"":                         "in b\nhot\n",
		"printf 'in a\\nin b\\nhot\\n' >\"$LOG\"":                  "in a\nin b\nhot\n",
		"printf 'in b\\n' >\"$LOG\"":                               "in b\n",
		"printf 'in b\\n' >>\"$LOG\"":                              "in b\n",
		"touch \"$LOG\"":                                           "",
		"rm \"$LOG\"; printf h >\"$LOG\"; exit":                    "h\n",
		"mv \"$LOG\" \"$LOG\".1; printf 'in a\\nhot\\n' >\"$LOG\"": "in a\nhot\n",
		"printf 'in a\\n' >\"$LOG\"; printf 'hot\\n' >>\"$LOG\"":   "in a\nhot\n",
	} {
		for _, stays := range []string{"; read x", ""} {
			file := filepath.Join(t.TempDir(), "log")
			insist.OK(t, os.WriteFile(file, []byte("in a\nhot\n"), 0o600))
			k := begin(t, func(s *host.Spec) {
				s.Command, s.Env, s.Files = []string{"/bin/sh", "-c", script + stays}, []string{"LOG=" + file}, []string{file}
			})
			if stays != "" {
				k.log(want)
				insist.OK(t, insist.Err(k.dir.Stop(context.Background())))
			}
			k.exit()
			insist.Same(t, fmt.Sprintf("%s%s: the log", script, stays), k.log(want), want)
		}
	}
}

// A disk that is full does not stop a server, and its log says what is missing.
func TestLogOnAFullDisk(t *testing.T) {
	small := t.TempDir()
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=1m"); err != nil {
		lack.Of(t, fmt.Sprintf("the right to make a small disk: %v", err))
	}
	t.Cleanup(func() { syscall.Unmount(small, 0) })
	k := prepare(t, nil)
	spec := host.Spec{Server: "s", Command: []string{os.Args[0], "server"}, Dir: small, Console: "go", Patience: 5 * time.Second}
	k.home = host.Home{Dir: small}
	var err error
	if k.dir, _, err = k.home.Prepare(spec); err != nil {
		t.Fatal(err)
	}
	k.follow(k.dir)
	insist.OK(t, k.dir.Launch(os.Args[0]))
	k.log("up")
	// What is said while the disk is full is told once there is room, if the keeper came to
	// it in time: how long that takes nobody can see.
	ballast := filepath.Join(small, "ballast")
	for wait := 20 * time.Millisecond; ; wait *= 2 {
		if err := os.WriteFile(ballast, make([]byte, 1<<20), 0o600); err == nil {
			t.Fatal("the disk is not full")
		}
		k.say(strings.Repeat("x", 6000))
		time.Sleep(wait)
		insist.OK(t, os.Remove(ballast))
		after := fmt.Sprintf("after %s", wait)
		k.say(after)
		got := k.log("heard " + after + "\n")
		if strings.Contains(got, "could not be kept here: no space left on device\nheard "+after+"\n") {
			k.say("once more")
			if all := k.log("heard once more\n"); strings.Count(all, "could not be kept") != strings.Count(got, "could not be kept") || !strings.HasSuffix(all, "heard "+after+"\nheard once more\n") {
				t.Errorf("it is told again: %q", all[max(len(all)-200, 0):])
			}
			break
		}
		insist.Need(t, wait <= 10*time.Second, "the log is %.200q", got)
	}
}

// A server that does not read its console does not hold anybody up.
func TestSayToAServerThatDoesNotRead(t *testing.T) {
	k := begin(t, func(s *host.Spec) { s.Command, s.Patience = append(s.Command, "unreading"), 200*time.Millisecond })
	k.log("up")
	var err error
	for line := strings.Repeat("x", 8000); err == nil; {
		err = k.dir.Say(line)
	}
	insist.That(t, strings.Contains(err.Error(), "does not read its console"), "error is %v", err)
	exit, err := k.home.StopServer(context.Background(), "s")
	insist.That(t, err == nil && exit.How == host.EndedKill, "stopping gives %+v, %v", exit, err)
}

// An export replaces a file, follows a link, and writes into what is no file.
func TestWriteExport(t *testing.T) {
	dir := t.TempDir()
	file, link, pipe := filepath.Join(dir, "file"), filepath.Join(dir, "link"), filepath.Join(dir, "pipe")
	insist.OK(t, os.Symlink("file", link))
	insist.OK(t, syscall.Mkfifo(pipe, 0o600))
	got := make(chan string, 1)
	go func() {
		data, err := os.ReadFile(pipe)
		got <- fmt.Sprint(string(data), err)
	}()
	for _, name := range []string{file, link, pipe} {
		insist.OK(t, host.WriteExport(name, []byte("by way of "+filepath.Base(name))))
	}
	insist.Same(t, "out of the pipe came", <-got, "by way of pipe<nil>")
	if data, err := os.ReadFile(file); err != nil || string(data) != "by way of link" {
		t.Errorf("the file has %q, %v", data, err)
	}
	for name, kind := range map[string]os.FileMode{file: 0, link: os.ModeSymlink, pipe: os.ModeNamedPipe} {
		if info, err := os.Lstat(name); err != nil || info.Mode().Type() != kind {
			t.Errorf("%s is %v, %v", name, info.Mode(), err)
		}
	}
	if err := host.WriteExport(dir, nil); err == nil {
		t.Error("a folder was written")
	}
}

// Old logs are let go when they take much room; the newest, and that of the last proved
// start, are kept, and all proofs.
func TestDropOldLogs(t *testing.T) {
	home := host.Home{Dir: filepath.Join(t.TempDir(), "odd [name]")}
	var dirs []host.StartDir
	for i := range 12 {
		dir, _, err := home.NewStart("s")
		insist.OK(t, err)
		verdict := proof.NotProved
		if i == 2 || i == 4 {
			verdict = proof.Proved
		}
		insist.OK(t, dir.PutProof(&proof.Proof{Verdict: verdict}))
		for _, name := range []string{"log", "log.times", "log.00001.zst", "log.pieces"} {
			insist.OK(t, os.WriteFile(filepath.Join(string(dir), name), make([]byte, 100), 0o600))
		}
		insist.OK(t, os.WriteFile(filepath.Join(string(dir), "run.json"), []byte("{}"), 0o600))
		dirs = append(dirs, dir)
	}
	kept := func() (s string) {
		for i, dir := range dirs {
			if !dir.LogDropped() {
				s += fmt.Sprint(i, " ")
			} else if names := within(string(dir), "log*"); len(names) > 0 {
				t.Errorf("start %d has still %q", i, names)
			}
			insist.That(t, dir.Judged(), "start %d has lost its proof", i)
		}
		return s
	}
	for _, step := range []struct {
		room int64
		want string
	}{{5000, "0 1 2 3 4 5 6 7 8 9 10 11 "}, {2600, "4 6 7 8 9 10 11 "}, {0, "4 7 8 9 10 11 "}} {
		insist.OK(t, home.DropOldLogs("s", step.room))
		insist.Same(t, fmt.Sprintf("with room for %d bytes logs", step.room), kept(), step.want)
	}
	// A start makes room for its own log.
	for _, dir := range dirs {
		insist.OK(t, os.WriteFile(filepath.Join(string(dir), "log"), nil, 0o600))
		insist.OK(t, os.Truncate(filepath.Join(string(dir), "log"), 1<<30))
	}
	if _, _, err := home.Prepare(host.Spec{Server: "s"}); err != nil || !dirs[0].LogDropped() || dirs[11].LogDropped() {
		t.Errorf("after another start the oldest log is gone: %v, the newest: %v; %v", dirs[0].LogDropped(), dirs[11].LogDropped(), err)
	}
}

// Who follows a start before there is a log reads it all the same.
func TestFollowBeforeTheLog(t *testing.T) {
	k := prepare(t, nil)
	for range 3 {
		if more, err := k.f.Next(func([]byte, time.Duration) { t.Error("something is read") }); more || err != nil {
			t.Fatalf("before the log: %v, %v", more, err)
		}
	}
	exe, err := os.Executable()
	insist.OK(t, err)
	insist.OK(t, k.dir.Launch(exe))
	k.log("up in harbour\n")
}

// While what a server is started again with is being noted, it is neither running nor
// stopped.
func TestStateBeforeARestart(t *testing.T) {
	home := host.Home{Dir: t.TempDir()}
	var dirs []host.StartDir
	for range 2 {
		dir, _, err := home.NewStart("s")
		insist.OK(t, err)
		dirs = append(dirs, dir)
	}
	for name, data := range map[string]string{"run.json": `{"keeper":1,"server":1,"started":"2026-01-02T09:00:00Z"}`, "exit.json": `{"status":3,"again":"2026-01-02T10:00:00Z"}`} {
		insist.OK(t, os.WriteFile(filepath.Join(string(dirs[0]), name), []byte(data), 0o600))
	}
	lock, err := os.Create(filepath.Join(home.Dir, "servers", "s", "running.lock"))
	insist.OK(t, err)
	defer lock.Close()
	insist.OK(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
	if s, err := home.State("s"); err != nil || !s.Up || !s.Waiting || s.Number != 1 || s.Start != dirs[0] || s.Exit == nil || s.Lost != nil || s.Since.UTC().Hour() != 9 {
		t.Errorf("the state is %+v, %v", s, err)
	}
	// With nobody to start it again it is not waited for.
	lock.Close()
	if s, err := home.State("s"); err != nil || s.Up || s.Waiting {
		t.Errorf("with its keeper gone the state is %+v, %v", s, err)
	}
}

// A server that is stopped while what it is started again with is being noted stays down,
// and is not started for that.
func TestStopBeforeARestart(t *testing.T) {
	noting := filepath.Join(t.TempDir(), "noting")
	k := begin(t, func(s *host.Spec) {
		s.Note = []string{"/bin/sh", "-c", "touch '" + noting + "'; sleep 9; touch '" + noting + ".done'"}
	})
	k.log("up in harbour\n")
	insist.OK(t, k.dir.Guard(2))
	k.say("crash")
	for end := time.Now().Add(tooLate); ; time.Sleep(5 * time.Millisecond) {
		if _, err := os.Stat(noting); err == nil {
			break
		}
		insist.Need(t, !time.Now().After(end), "nothing is noted")
	}
	exit, err := k.home.StopServer(context.Background(), "s")
	insist.That(t, err == nil && exit.Status == 7 && exit.Again == nil && exit.Next == 0, "stopped: %+v, %v", exit, err)
	k.exit()
	if _, err := os.Stat(noting + ".done"); err == nil {
		t.Error("the note was waited for to its end")
	}
	if starts, err := k.home.Starts("s"); err != nil || len(starts) != 1 {
		t.Errorf("starts %v, %v", starts, err)
	}
}

// TestStateByNotes tells how a server stands by what its starts have noted, also when the
// number of its process is another one's by now.
func TestStateByNotes(t *testing.T) {
	self := os.Getpid()
	data, err := os.ReadFile("/proc/self/stat")
	insist.OK(t, err)
	born := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))[19]
	const ended, began = `{"status":3,"how":"by itself"}`, `{"keeper":1,"server":2,"started":"2026-01-02T10:00:00Z"}`
	for name, test := range map[string]struct {
		run, exit string // "" for no such note
		want      string
	}{
		"nothing noted":            {"", "", "up false, lost [], exit none"},
		"ended":                    {began, ended, "up false, lost [], exit 3 by itself"},
		"lives without a keeper":   {fmt.Sprintf(`{"keeper":999999,"server":%d,"born":%s}`, self, born), "", fmt.Sprintf("up true, lost [%d], exit none", self)},
		"another's number":         {fmt.Sprintf(`{"keeper":999999,"server":%d,"born":1}`, self), "", "up false, lost [], exit -1 unseen"},
		"nobody's number":          {`{"keeper":999999,"server":999998,"born":5}`, "", "up false, lost [], exit -1 unseen"},
		"no birth noted":           {fmt.Sprintf(`{"keeper":999999,"server":%d}`, self), "", "up false, lost [], exit -1 unseen"},
		"never started":            {"", `{"status":-1,"how":"not started","error":"no such file"}`, "up false, lost [], exit -1 not started"},
		"to be started, no keeper": {`{"keeper":999999,"server":999998}`, `{"status":3,"how":"by itself","again":"2026-01-02T10:00:00Z"}`, "up false, lost [], exit 3 by itself"},
	} {
		home := host.Home{Dir: t.TempDir()}
		dir, _, err := home.NewStart("s")
		insist.OK(t, err)
		for file, data := range map[string]string{"run.json": test.run, "exit.json": test.exit} {
			if data != "" {
				put(t, filepath.Join(string(dir), file), data, 0o600)
			}
		}
		for range 2 { // what was found out is written down, and found again
			s, err := home.State("s")
			exit := "none"
			if s.Exit != nil {
				exit = fmt.Sprint(s.Exit.Status, " ", s.Exit.How)
			}
			if got := fmt.Sprintf("up %v, lost %v, exit %s", s.Up, s.Lost, exit); err != nil || got != test.want || s.Waiting || s.Number != 1 {
				t.Errorf("%s: %s, %v; want %s", name, got, err, test.want)
			}
			if test.run == began && s.Since.Year() != 2026 {
				t.Errorf("%s: since %s", name, s.Since)
			}
			insist.Same(t, fmt.Sprintf("%s: running", name), home.IsRunning("s"), s.Up)
		}
	}
	home := host.Home{Dir: t.TempDir()}
	if s, err := home.State("s"); err != nil || s.Up || s.Start != "" {
		t.Errorf("without a start: %+v, %v", s, err)
	}
	insist.Fails(t, "stopping what was never started", insist.Err(home.StopServer(t.Context(), "s")), "never started")
}

// A server that has lost its keeper is stopped by the signal that its dialect says, else by
// TERM; and one that is stopped by its keeper too.
func TestPoliteSignals(t *testing.T) {
	for signal, script := range map[string]string{"INT": "trap 'exit 4' INT; trap '' TERM HUP PIPE", "": "trap 'exit 0' TERM; trap '' INT HUP PIPE", "HUP": "trap 'exit 0' HUP; trap '' INT TERM PIPE"} {
		for _, lost := range []bool{false, true} {
			k := begin(t, func(s *host.Spec) {
				s.Command = []string{"/bin/sh", "-c", script + "; echo up; while :; do sleep 0.02; done"}
				s.Console, s.Signal, s.Patience = "", signal, 10*time.Second
			})
			k.log("up")
			if lost {
				running, err := k.dir.Running()
				insist.OK(t, err)
				insist.OK(t, syscall.Kill(running.Keeper, syscall.SIGKILL))
			}
			exit, err := k.home.StopServer(context.Background(), "s")
			insist.That(t, err == nil && exit.How == host.EndedStop && !exit.At.IsZero(), "by %q, lost %v: %+v, %v", signal, lost, exit, err)
			var own strings.Builder
			if insist.OK(t, k.home.ReadLog(&own)); strings.Contains(own.String(), "by itself") {
				t.Errorf("by %q, lost %v: Initium's own log says %s", signal, lost, own.String())
			}
			if again, err := k.home.StopServer(context.Background(), "s"); err != nil || again.How != host.EndedStop {
				t.Errorf("by %q, lost %v, once more: %+v, %v", signal, lost, again, err)
			}
		}
	}
}

// A keeper that is ended while its server is being stopped, which therefore can no longer
// say how that went, leaves the rest to whoever stops it.
func TestKeeperEndedWhileStopping(t *testing.T) {
	k := begin(t, func(s *host.Spec) {
		s.Command = []string{"/bin/sh", "-c", "trap 'echo asked' INT; trap '' PIPE; echo up; while :; do sleep 0.02; done"}
		s.Console, s.Signal, s.Patience = "", "INT", time.Minute
	})
	k.log("up")
	running, err := k.dir.Running()
	insist.OK(t, err)
	stopping, cancel := context.WithCancel(context.Background())
	defer cancel()
	stopped := make(chan error, 1)
	go func() {
		_, err := k.home.StopServer(stopping, "s")
		stopped <- err
	}()
	k.log("asked")
	insist.OK(t, syscall.Kill(running.Keeper, syscall.SIGKILL))
	for { // it goes on by signals of its own, for as long as the server was to be given
		select {
		case err := <-stopped:
			t.Fatalf("given up, with the server still there: %v", err)
		case <-time.After(50 * time.Millisecond):
		}
		if s, err := k.home.State("s"); err == nil && s.Lost != nil {
			break
		}
	}
	cancel()
	if err := <-stopped; !errors.Is(err, context.Canceled) {
		t.Errorf("ended by whoever stops it: %v", err)
	}
	insist.OK(t, syscall.Kill(running.Server, syscall.SIGKILL))
	if exit, err := k.home.StopServer(context.Background(), "s"); err != nil || exit.How != host.EndedUnseen && exit.How != host.EndedStop {
		t.Errorf("afterwards: %+v, %v", exit, err)
	}
}

// A keeper that has written down how its server ended may take a moment to be gone, and holds
// the lock until then: the server is not taken to run any more, and can be started.
func TestKeeperTakesOver(t *testing.T) {
	k := prepare(t, func(s *host.Spec) { s.Command, s.Console = []string{"/bin/sh", "-c", "echo up; exit 3"}, "" })
	lock, err := os.OpenFile(filepath.Join(k.home.Dir, "servers", "s", "running.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	insist.OK(t, err)
	insist.OK(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
	insist.That(t, k.home.IsRunning("s"), "what is held does not run")
	put(t, filepath.Join(string(k.dir), "run.json"), fmt.Sprintf(`{"keeper":%d,"server":1}`, os.Getpid()), 0o600)
	put(t, filepath.Join(string(k.dir), "exit.json"), `{"status":3,"how":"by itself","again":"2026-01-02T10:00:00Z"}`, 0o600)
	if s, err := k.home.State("s"); err != nil || !s.Up || !s.Waiting {
		t.Errorf("to be started again: %+v, %v", s, err)
	}
	put(t, filepath.Join(string(k.dir), "exit.json"), `{"status":3,"how":"by itself"}`, 0o600)
	if s, err := k.home.State("s"); err != nil || s.Up || s.Exit == nil || s.Exit.Status != 3 || k.home.IsRunning("s") {
		t.Errorf("ended: %+v, %v", s, err)
	}
	for _, name := range []string{"run.json", "exit.json"} {
		insist.OK(t, os.Remove(filepath.Join(string(k.dir), name)))
	}
	exe, err := os.Executable()
	insist.OK(t, err)
	started := make(chan error, 1)
	go func() { started <- k.dir.Launch(exe) }()
	time.Sleep(100 * time.Millisecond) // for a keeper that does not wait to fail
	if _, err := os.Stat(filepath.Join(string(k.dir), "run.json")); err == nil {
		t.Error("it was started while another held the lock")
	}
	select {
	case err := <-started:
		t.Fatalf("nothing was waited for: %v", err)
	default:
	}
	insist.OK(t, lock.Close())
	insist.OK(t, <-started)
	if exit := k.exit(); exit.Status != 3 {
		t.Errorf("it ended with %+v", exit)
	}
}

// Who looks whether a server runs is not taken for a server by another who looks.
func TestStateIsLookedAtByMany(t *testing.T) {
	k := begin(t, func(s *host.Spec) { s.Command, s.Console = []string{"/bin/sh", "-c", "exit 3"}, "" })
	k.exit()
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			for range 200 {
				if s, err := k.home.State("s"); err != nil || s.Up {
					t.Errorf("%+v, %v", s, err)
					return
				}
			}
		})
	}
	wait.Wait()
}

// A start is forgotten when its keeper is gone: with nothing that tells of it any more, the
// lock that it holds would be taken for a server's.
func TestForgottenWithItsKeeper(t *testing.T) {
	k := prepare(t, nil)
	keeper := exec.Command("sleep", "0.2")
	insist.OK(t, keeper.Start())
	gone := make(chan struct{})
	go func() {
		keeper.Wait()
		close(gone)
	}()
	put(t, filepath.Join(string(k.dir), "run.json"), fmt.Sprintf(`{"keeper":%d,"server":1}`, keeper.Process.Pid), 0o600)
	put(t, filepath.Join(string(k.dir), "exit.json"), `{"status":3,"how":"by itself"}`, 0o600)
	insist.OK(t, k.dir.Remove())
	if err := syscall.Kill(keeper.Process.Pid, 0); err == nil {
		if data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", keeper.Process.Pid)); !bytes.Contains(data, []byte(") Z")) && len(data) > 0 {
			t.Errorf("it is forgotten while its keeper lives: %s", data)
		}
	}
	<-gone
	if _, err := os.Stat(string(k.dir)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("it is still there: %v", err)
	}
}

// A keeper that is asked to end, as when the machine goes down, stops its server politely; one
// that loses its terminal goes on.
func TestKeeperIsAskedToEnd(t *testing.T) {
	for _, signal := range []syscall.Signal{syscall.SIGTERM, syscall.SIGINT} {
		k := begin(t, func(s *host.Spec) {
			s.Command = []string{"/bin/sh", "-c", "echo up; while read -r x; do [ \"$x\" = go ] && exit 4; done"}
			s.Console, s.Patience = "go", 20*time.Second
		})
		k.log("up")
		running, err := k.dir.Running()
		insist.OK(t, err)
		insist.OK(t, syscall.Kill(running.Keeper, syscall.SIGHUP))
		insist.OK(t, syscall.Kill(running.Keeper, signal))
		if exit := k.exit(); exit.How != host.EndedStop || exit.Status != 4 || exit.Again != nil {
			t.Errorf("%s: %+v", signal, exit)
		}
	}
}
