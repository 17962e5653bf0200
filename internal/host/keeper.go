package host

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Spec says how a server is started and stopped, with nothing left to fill in.
type Spec struct {
	Server   string        `json:"server"`
	Home     string        `json:"home"` // Initium's, where further starts are kept
	Command  []string      `json:"command"`
	Dir      string        `json:"dir"`
	Env      []string      `json:"env"` // added to the environment
	Terminal bool          `json:"terminal,omitempty"`
	Isolated bool          `json:"isolated,omitempty"` // in a network of its own,
	Address  []string      `json:"address,omitempty"`  // which has these addresses (IPv4) besides loopback
	Files    []string      `json:"files,omitempty"`    // that the server writes its log into, besides what it prints
	Listens  int           `json:"listens,omitempty"`  // the port that shows it to be ready; 0 for none
	Console  string        `json:"console,omitempty"`
	Signal   string        `json:"signal,omitempty"`
	Patience time.Duration `json:"patience"`       // ns
	Pauses   Pauses        `json:"pauses"`         // before it is started again; zero values for the usual ones
	Note     []string      `json:"note,omitempty"` // run, with the start's folder, to note what the server is started again with
	Lock     string        `json:"lock"`           // held for as long as the server runs
	Socket   string        `json:"socket"`
}

// Running is what a keeper says about itself.
type Running struct {
	Keeper  int       `json:"keeper"` // process ids
	Server  int       `json:"server"`
	Born    uint64    `json:"born"` // when the server's process began, in ticks of the kernel
	Started time.Time `json:"started"`
}

// Exit says how a server ended.
type Exit struct {
	Status int           `json:"status"` // -1 when a signal ended it, or nobody saw it
	At     time.Time     `json:"at"`
	Lasted time.Duration `json:"lasted"` // how long it ran, ns
	How    string        `json:"how"`    // one of those below
	Error  string        `json:"error,omitempty"`
	Left   int           `json:"left,omitempty"`  // processes that it left behind and that had to be ended
	Again  *time.Time    `json:"again,omitempty"` // when the keeper starts it again
	Next   int           `json:"next,omitempty"`  // the number of that start, once it has begun
}

// How a server ended.
const (
	EndedItself = "by itself"
	EndedStop   = "stopped"
	EndedKill   = "killed"
	EndedNever  = "not started"
	EndedUnseen = "unseen" // its keeper was gone by then
)

// Pauses say how long a keeper waits, in ns, before it starts a server again that has
// crashed: each time twice as long as the time before.
type Pauses struct {
	First  time.Duration `json:"first,omitempty"`
	Most   time.Duration `json:"most,omitempty"`
	Steady time.Duration `json:"steady,omitempty"` // a server that was up for longer begins with the first pause again
}

var usualPauses = Pauses{First: time.Second, Most: time.Minute, Steady: 10 * time.Minute}

// or takes the values of others where it has none.
func (p Pauses) or(others Pauses) Pauses {
	return Pauses{cmp.Or(p.First, others.First), cmp.Or(p.Most, others.Most), cmp.Or(p.Steady, others.Steady)}
}

// insistence is how long a server has between the two signals that end it by force.
const insistence = 2 * time.Second

// keeper owns one running server: its process, its console and its log.
type keeper struct {
	dir  StartDir
	spec Spec
	lock *os.File

	mu      sync.Mutex
	how     string
	main    int      // the server's process, 0 when none runs
	console *os.File // nil when none runs
	done    chan struct{}
	guards  int           // crashes in a row after which it is started again
	crashes int           // in a row
	enough  chan struct{} // closed when the server is not to be started again
}

// Keep runs a server until it ends; it is what a keeper process does. The start
// folder has to hold what Prepare put there. Its own failures end up in the
// start folder too, where the client looks for them.
func Keep(dir StartDir) error {
	k := &keeper{dir: dir, how: EndedItself, enough: make(chan struct{})}
	if err := readJSON(dir.spec(), &k.spec); err != nil {
		return err
	}
	log := Home{k.spec.Home}.Log().With("server", k.spec.Server, "start", filepath.Base(string(dir)))
	never := func(err error) error {
		log.Error("a server could not be started", "error", err)
		return errors.Join(err, writeJSON(k.dir.exit(), Exit{Status: -1, At: time.Now(), How: EndedNever, Error: err.Error()}))
	}
	if k.spec.Isolated {
		if err := loopbackUp(k.spec.Address); err != nil {
			return never(err)
		}
	}
	lock, err := tryLock(k.spec.Lock)
	for end := time.Now().Add(handover); err != nil && time.Now().Before(end); lock, err = tryLock(k.spec.Lock) {
		time.Sleep(beginTick)
	}
	if err != nil {
		return never(fmt.Errorf("%s is running already", k.spec.Server))
	}
	defer lock.Close()
	k.lock = lock
	// What the server leaves behind becomes a child of the keeper, and so is seen.
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return never(fmt.Errorf("watch over what the server starts: %w", err))
	}
	listener, err := listenPrivate(k.spec.Socket)
	if err != nil {
		return never(err)
	}
	defer listener.Close()
	go k.serve(listener)
	asked := make(chan os.Signal, 4) // of the keeper itself, when the machine goes down
	signal.Notify(asked, syscall.SIGTERM, syscall.SIGINT)
	signal.Notify(make(chan os.Signal, 1), syscall.SIGHUP) // not ignored: the server would ignore it too, from its birth
	go func() {
		for range asked {
			k.stop()
		}
	}()
	for {
		exit, err := k.run()
		if err != nil {
			return never(err)
		}
		pause, again := k.pause(exit)
		if again {
			at := exit.At.Add(pause)
			exit.Again = &at
		}
		if exit.How == EndedItself && exit.Status != 0 {
			log.Warn("a server has ended by itself", "status", exit.Status, "lasted", exit.Lasted, "again", again)
		}
		if err = writeJSON(k.dir.exit(), exit); err == nil && again {
			again, err = k.next(exit, pause)
		}
		if err != nil {
			log.Error("a keeper cannot go on", "error", err)
		}
		if err != nil || !again {
			return err
		}
	}
}

// handover is how long a keeper that has written down how its server ended is waited for,
// until it is gone.
const handover = 2 * time.Second

// pause tells whether a server that has ended is to be started again, and after
// how long.
func (k *keeper) pause(exit Exit) (time.Duration, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.how != EndedItself || exit.Status == 0 {
		return 0, false
	}
	pauses := k.spec.Pauses.or(usualPauses)
	if exit.Lasted > pauses.Steady {
		k.crashes = 0
	}
	if k.crashes >= k.guards {
		return 0, false
	}
	pause := pauses.First
	for range k.crashes {
		if pause *= 2; pause >= pauses.Most {
			pause = pauses.Most
			break
		}
	}
	k.crashes++
	return pause, true
}

// next waits and makes ready for another start; again is false when the server is
// to stay down after all.
func (k *keeper) next(exit Exit, pause time.Duration) (again bool, err error) {
	select {
	case <-time.After(pause):
	case <-k.enough:
		exit.Again = nil
		return false, writeJSON(k.dir.exit(), exit)
	}
	dir, number, err := Home{k.spec.Home}.Prepare(k.spec)
	if err != nil {
		return false, err
	}
	if err := dir.expectAs(k.dir); err != nil {
		return false, err
	}
	k.noteRestart(dir)
	select {
	case <-k.enough: // it was stopped meanwhile
		exit.Again = nil
		return false, errors.Join(dir.Remove(), writeJSON(k.dir.exit(), exit))
	default:
	}
	exit.Next = number
	if err := writeJSON(k.dir.exit(), exit); err != nil {
		return false, err
	}
	k.dir = dir
	return true, nil
}

// noteLimit is how long it may take to note what a server is started again with.
const noteLimit = 10 * time.Second

// noteRestart has what the server is started again with noted in a start's folder, by a
// process of its own, so that the keeper stays small. Without that the start is judged
// as the one before it.
func (k *keeper) noteRestart(dir StartDir) {
	if len(k.spec.Note) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), noteLimit)
	defer cancel()
	go func() { // nobody waits for a note of a start that is not to be
		select {
		case <-k.enough:
			cancel()
		case <-ctx.Done():
		}
	}()
	cmd := exec.CommandContext(ctx, k.spec.Note[0], append(slices.Clone(k.spec.Note[1:]), string(dir))...)
	cmd.Dir, cmd.Env = "/", append(os.Environ(), "INITIUM_HOME="+k.spec.Home)
	_ = cmd.Run() // no reason not to start the server
}

// run starts the server, writes its log and waits for its end, and for that of
// all that it has started. The error says why it could not be started.
func (k *keeper) run() (exit Exit, err error) {
	began := time.Now()
	book, err := newLogbook(k.dir, began)
	if err != nil {
		return exit, err
	}
	defer book.close()
	pipes, err := openPipes(k.spec.Terminal)
	if err != nil {
		return exit, err
	}
	defer pipes.close()
	tail, err := newTail(k.spec.Files)
	if err != nil {
		return exit, fmt.Errorf("follow the log of the server: %w", err)
	}
	cmd := exec.Command(k.spec.Command[0], k.spec.Command[1:]...)
	cmd.Dir = k.spec.Dir
	cmd.Env = append(os.Environ(), k.spec.Env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = pipes.serverIn, pipes.serverOut, pipes.serverOut
	cmd.ExtraFiles = []*os.File{k.lock} // a server that outlives its keeper still holds it
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: k.spec.Terminal}
	if err := cmd.Start(); err != nil {
		return exit, fmt.Errorf("start the server: %w", err)
	}
	pipes.hand()
	main := cmd.Process.Pid
	if err := writeJSON(k.dir.run(), Running{os.Getpid(), main, born(main), began}); err != nil {
		syscall.Kill(-main, syscall.SIGKILL)
		return exit, err
	}
	k.mu.Lock()
	k.main, k.console, k.done = main, pipes.console, make(chan struct{})
	asked := k.how != EndedItself // to stop, at the very moment of the start
	k.mu.Unlock()
	if asked {
		go k.halt()
	}
	printed := book.source(len(k.spec.Files) > 0)
	copied := make(chan struct{})
	go func() {
		defer close(copied)
		printed.copyFrom(pipes.out)
	}()
	tail.begin(book)
	if k.spec.Listens > 0 {
		go k.untilListens(began)
	}
	exit.Status, exit.Left = k.wait(main)
	select { // a process that is nobody's child any more may hold the pipe open
	case <-copied:
	case <-time.After(2 * time.Second):
	}
	tail.end()
	k.mu.Lock()
	defer k.mu.Unlock()
	close(k.done)
	k.main, k.console = 0, nil
	exit.How, exit.At, exit.Lasted = k.how, time.Now(), time.Since(began)
	return exit, nil
}

// listenTick is how often a keeper looks whether its server listens yet.
const listenTick = 20 * time.Millisecond

// untilListens notes when the server begins to listen on its port. It looks less and less often, as
// that means going through all of its files. What went into the background is the keeper's child all
// the same.
func (k *keeper) untilListens(began time.Time) {
	for pause := listenTick; !within(k.done, pause); pause = min(pause*5/4, time.Second) {
		if ports, err := Listening(os.Getpid()); err == nil && slices.Contains(ports, k.spec.Listens) {
			_ = writeJSON(k.dir.listens(), time.Since(began)) // without it the server counts as not ready
			return
		}
	}
}

// wait waits for the server and for all that it has started. A server that ends
// well and leaves something behind has gone into the background, and goes on; what
// one leaves behind that failed or was stopped is ended, for it may hold on to the
// same data.
func (k *keeper) wait(main int) (status, left int) {
	for {
		var ws syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &ws, 0, nil)
		switch {
		case err == syscall.EINTR:
		case err != nil: // there are no children any more
			return status, left
		case pid == main:
			status = ws.ExitStatus() // -1 when a signal has ended it
			k.mu.Lock()
			k.main = 0
			stopping := k.how != EndedItself
			k.mu.Unlock()
			if rest := descendants(os.Getpid()); len(rest) > 0 && (status != 0 || stopping) {
				left = len(rest)
				go k.insist()
			}
		}
	}
}

// insist ends all that runs by force.
func (k *keeper) insist() {
	k.mu.Lock()
	done := k.done
	k.mu.Unlock()
	signalAll(descendants(os.Getpid()), syscall.SIGTERM)
	for wait := insistence; !within(done, wait); wait = 200 * time.Millisecond {
		signalAll(descendants(os.Getpid()), syscall.SIGKILL)
	}
}

// serve answers the console socket.
func (k *keeper) serve(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			scan := bufio.NewScanner(conn)
			for scan.Scan() {
				word, rest, _ := strings.Cut(scan.Text(), " ")
				if err := k.order(word, rest); err != nil {
					fmt.Fprintf(conn, "error %v\n", err)
					continue
				}
				fmt.Fprintln(conn, "ok")
			}
		}()
	}
}

// sayLimit is how long a server may take to read what is typed.
const sayLimit = 3 * time.Second

func (k *keeper) order(word, rest string) error {
	switch word {
	case "say":
		return k.say(rest)
	case "stop":
		go k.stop()
		return nil
	case "guard":
		n, err := strconv.Atoi(rest)
		if err != nil || n < 0 {
			return fmt.Errorf("%q is no number of starts", rest)
		}
		k.mu.Lock()
		k.guards, k.crashes = n, 0
		k.mu.Unlock()
		return nil
	}
	return fmt.Errorf("unknown order %q", word)
}

func (k *keeper) say(line string) error {
	k.mu.Lock()
	console := k.console
	k.mu.Unlock()
	if console == nil {
		return errors.New("the server is down; it will be started again in a moment")
	}
	console.SetWriteDeadline(time.Now().Add(sayLimit))
	if _, err := fmt.Fprintf(console, "%s\n", line); errors.Is(err, os.ErrDeadlineExceeded) {
		return errors.New("the server does not read its console")
	} else if err != nil {
		return fmt.Errorf("type on the console: %w", err)
	}
	return nil
}

var signals = map[string]syscall.Signal{"INT": syscall.SIGINT, "TERM": syscall.SIGTERM, "HUP": syscall.SIGHUP, "QUIT": syscall.SIGQUIT}

// stop has the server stop for good. One that waits to be started again stays down.
func (k *keeper) stop() {
	k.mu.Lock()
	asked := k.how != EndedItself
	if !asked {
		k.how = EndedStop
		close(k.enough)
	}
	k.mu.Unlock()
	if !asked {
		k.halt()
	}
}

// halt asks the server that runs politely, waits, and only then insists.
func (k *keeper) halt() {
	k.mu.Lock()
	main, done := k.main, k.done
	k.mu.Unlock()
	if done == nil || within(done, 0) {
		return
	}
	if k.spec.Console == "" || k.say(k.spec.Console) != nil {
		signal := signals[k.spec.Signal]
		if signal == 0 {
			signal = syscall.SIGTERM
		}
		if main != 0 {
			syscall.Kill(main, signal)
		} else {
			signalAll(descendants(os.Getpid()), signal)
		}
	}
	if within(done, k.spec.Patience) {
		return
	}
	k.mu.Lock()
	k.how = EndedKill
	k.mu.Unlock()
	k.insist()
}

// within waits for the end of something, for a while.
func within(done <-chan struct{}, limit time.Duration) bool {
	select {
	case <-done:
		return true
	default:
	}
	select {
	case <-done:
		return true
	case <-time.After(limit):
		return false
	}
}

// SocketFor is where the keeper of a server listens: a short path, as Unix
// sockets need, in a folder of the operator's own.
func (h Home) SocketFor(server string) (string, error) {
	base := os.Getenv("XDG_RUNTIME_DIR")
	if base == "" {
		base = filepath.Join(os.TempDir(), "initium-"+strconv.Itoa(os.Getuid()))
	} else {
		base = filepath.Join(base, "initium")
	}
	if err := os.MkdirAll(base, 0o700); err != nil {
		return "", err
	}
	info, err := os.Lstat(base)
	if err != nil {
		return "", err
	}
	if stat, ok := info.Sys().(*syscall.Stat_t); !ok || !info.IsDir() || info.Mode().Perm()&0o077 != 0 || int(stat.Uid) != os.Getuid() {
		return "", fmt.Errorf("%s has to be a folder that only you may use; remove it and try again", base)
	}
	return filepath.Join(base, shortHash(h.serverDir(server))+".sock"), nil
}

// longestSocket is how many bytes the address of a Unix socket may have (unix(7)).
const longestSocket = 107

// nearSocket is a way to a socket that is short enough for an address: where the path is not,
// it leads over the folder, which is held open until release.
func nearSocket(path string) (near string, release func(), err error) {
	if len(path) <= longestSocket {
		return path, func() {}, nil
	}
	folder, err := os.Open(filepath.Dir(path))
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/%s", folder.Fd(), filepath.Base(path)), func() { folder.Close() }, nil
}

// listener listens on a socket, whose folder it may hold open.
type listener struct {
	net.Listener
	release func()
}

func (l listener) Close() error {
	defer l.release()
	return l.Listener.Close()
}

func listenPrivate(path string) (net.Listener, error) {
	os.Remove(path)
	near, release, err := nearSocket(path)
	if err != nil {
		return nil, err
	}
	old := syscall.Umask(0o177)
	l, err := net.Listen("unix", near)
	syscall.Umask(old)
	if err != nil {
		release()
		return nil, err
	}
	return listener{l, release}, nil
}
