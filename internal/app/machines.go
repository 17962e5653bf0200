package app

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/remote"
)

// programFolder is where this program is put at a machine, below the home of its user there.
const programFolder = ".local/share/initium/bin"

// PrepareHost puts this program at a machine of the operator's, where commands can be run: its own bytes, or those of
// another file where that machine is of another kind. It goes up under another name, is looked at and tried there, and
// only then takes its place. It returns the path of the program there, and what it says of itself.
func (a *App) PrepareHost(ctx context.Context, name, program string, progress func(host.Progress)) (at, says string, err error) {
	r, err := a.Home.Host(name)
	if err != nil {
		return "", "", UsageError{err}
	}
	err = a.over(ctx, name, func(f remote.FS) error {
		m, err := remote.Look(ctx, f)
		if err != nil {
			return err
		}
		if program == "" && m.System != remote.Own() {
			return usage("%s is %s, and this program is for %s; build it for there, and say where it is with --program", name, m.System, remote.Own())
		}
		if program == "" {
			program = a.Exe
		}
		r.Program = path.Join(m.Home, programFolder, "initium")
		says, err = putProgram(ctx, f, program, r.Program, progress)
		return err
	})
	if err != nil {
		return "", "", fmt.Errorf("prepare %s: %w", name, err)
	}
	return r.Program, says, a.Home.PutHost(r)
}

// putProgram brings a program to its place at a machine, unless it is there already, and returns what it says of itself.
func putProgram(ctx context.Context, f remote.FS, program, to string, progress func(host.Progress)) (says string, err error) {
	file, err := os.Open(program)
	if err != nil {
		return "", err
	}
	defer file.Close()
	sum := sha256.New()
	size, err := io.Copy(sum, file)
	if err != nil {
		return "", fmt.Errorf("read %s: %w", program, err)
	}
	want := hex.EncodeToString(sum.Sum(nil))
	if there, err := sumThere(ctx, f, to); err == nil && there == want {
		return sayVersion(ctx, f, to)
	} else if errors.Is(err, remote.ErrLine) {
		return "", err
	}
	if err := foldersThere(f, path.Dir(to)); err != nil {
		return "", err
	}
	beside := to + "." + strings.ToLower(rand.Text()[:8])
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	defer func() {
		if err != nil {
			_ = f.Remove(beside) // it is in nobody's way
		}
	}()
	if err := f.Put(ctx, beside, &counted{from: file, all: size, told: progress}, 0); err != nil {
		return "", fmt.Errorf("send the program: %w", err)
	}
	there, err := sumThere(ctx, f, beside)
	if err != nil {
		return "", fmt.Errorf("look at what was sent: %w", err)
	}
	if there != want {
		return "", errors.New("what has arrived is not what was sent")
	}
	if _, err := answer(ctx, f, "chmod", "755", beside); err != nil {
		return "", err
	}
	if says, err = sayVersion(ctx, f, beside); err != nil {
		return "", err
	}
	if err := f.Rename(beside, to); err != nil {
		return "", fmt.Errorf("put the program in its place: %w", err)
	}
	return says, nil
}

// sayVersion runs a program there.
func sayVersion(ctx context.Context, f remote.FS, program string) (string, error) {
	says, err := answer(ctx, f, program, "--version")
	if err != nil {
		return "", fmt.Errorf("it does not run there: %w", err)
	}
	return says, nil
}

// answer is what a command there prints, in a line. The error tells what it says where it fails.
func answer(ctx context.Context, f remote.FS, words ...string) (string, error) {
	var out, bad bytes.Buffer
	status, err := remote.Run(ctx, f, remote.Running{Words: words, Out: &out, Err: &bad})
	if err != nil {
		return "", err
	}
	if status != 0 {
		return "", fmt.Errorf("%s ended with status %d: %s", path.Base(words[0]), status, text.Clean(strings.TrimSpace(bad.String())))
	}
	return text.Clean(strings.TrimSpace(out.String())), nil
}

// sumThere is the SHA-256 of a file there: as the machine works it out, or of what it sends.
func sumThere(ctx context.Context, f remote.FS, name string) (string, error) {
	if _, err := f.Stat(name); err != nil {
		return "", err
	}
	if s, err := answer(ctx, f, "sha256sum", "--", name); err == nil {
		if sum, _, ok := strings.Cut(strings.TrimPrefix(s, `\`), " "); ok && len(sum) == 2*sha256.Size {
			return sum, nil
		}
	}
	sum := sha256.New()
	if err := f.Get(ctx, name, 0, sum); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// foldersThere makes a folder, and those that it is in.
func foldersThere(f remote.FS, dir string) error {
	e, err := f.Stat(dir)
	switch {
	case err == nil && e.Kind == remote.Folder, err == nil && e.Kind == remote.Link:
		return nil
	case err == nil:
		return fmt.Errorf("%s is there, and no folder", text.Clean(dir))
	case !errors.Is(err, fs.ErrNotExist) || dir == "/":
		return err
	}
	if err := foldersThere(f, path.Dir(dir)); err != nil {
		return err
	}
	return f.MakeFolder(dir)
}

// counted tells how much of a file was read.
type counted struct {
	from io.Reader
	n    int64
	all  int64
	told func(host.Progress)
}

// Read reads on.
func (c *counted) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.n += int64(n)
	if c.told != nil {
		c.told(host.Progress{AllFiles: 1, Bytes: c.n, AllBytes: c.all})
	}
	return n, err
}

// Reach connects to a host, or finds that it is connected.
func (a *App) Reach(ctx context.Context, name string) error {
	if _, err := a.Home.Host(name); err != nil {
		return UsageError{err}
	}
	_, err := a.hostLine(ctx, name)
	return err
}

// On runs a command of Initium's at a machine that was prepared, and returns its exit status. What it does there goes on
// by the rules of that machine: a server that it has started, and its keeper, do not care what becomes of the line.
func (a *App) On(ctx context.Context, name string, r remote.Running) (status int, err error) {
	h, err := a.Home.Host(name)
	if err != nil {
		return 0, UsageError{err}
	}
	if h.Program == "" {
		return 0, usage("Initium is not on %s yet; initium host prepare %s puts it there", name, name)
	}
	r.Words = append([]string{h.Program}, r.Words...)
	err = a.over(ctx, name, func(f remote.FS) error {
		status, err = remote.Run(ctx, f, r)
		return err
	})
	return status, err
}

// Distant is a server of another Initium, at a machine of the operator's, as that one tells of it.
type Distant struct {
	Host string `json:"on"`
	Down string `json:"down,omitempty"` // why nothing is known of that machine; there is no server then
	DistantServer
}

// DistantServer is what another Initium tells of a server, as servers --json does.
type DistantServer struct {
	Server    string     `json:"server"`
	Dialect   string     `json:"dialect"`
	Place     string     `json:"place"`
	Running   bool       `json:"running"`
	Since     *time.Time `json:"since"`
	Players   *int       `json:"players"`
	Port      string     `json:"port"`
	Mods      int        `json:"mods"`
	LastStart string     `json:"last_start"`
	Errors    int        `json:"errors"`
	Owed      int        `json:"owed"`
	Staged    int        `json:"staged"`
	Problem   string     `json:"problem,omitempty"`
}

// Name is how it is told apart from servers here.
func (d *Distant) Name() string { return d.Host + ": " + d.Server }

// StateWords say in a few words how it stands.
func (d *Distant) StateWords() string {
	if d.Running {
		return "running" + In(d.Players)
	}
	return "stopped"
}

// How long a machine may take to tell of its servers, and how much it may say.
const (
	distantWithin = 15 * time.Second
	maxDistant    = 4 << 20 // bytes
)

// Distant asks all machines that were prepared what of their servers. One that cannot be asked is told as that.
func (a *App) Distant(ctx context.Context) (list []Distant, err error) {
	hosts, err := a.Hosts()
	if err != nil {
		return nil, err
	}
	all := make([][]Distant, len(hosts))
	var wait sync.WaitGroup
	for i, h := range hosts {
		if h.Program != "" {
			wait.Go(func() { all[i] = a.distantAt(ctx, h.Name) })
		}
	}
	wait.Wait()
	for _, some := range all {
		list = append(list, some...)
	}
	return list, nil
}

func (a *App) distantAt(ctx context.Context, name string) (list []Distant) {
	ctx, stop := context.WithTimeout(ctx, distantWithin)
	defer stop()
	var out, bad limited
	status, err := a.On(ctx, name, remote.Running{Words: []string{"servers", "--json"}, Out: &out, Err: &bad})
	if err == nil && status != 0 {
		err = fmt.Errorf("it ended with status %d: %s", status, text.Clean(strings.TrimSpace(bad.String())))
	}
	var servers []DistantServer
	if err == nil {
		err = json.Unmarshal(out.Bytes(), &servers)
	}
	if err != nil {
		return []Distant{{Host: name, Down: text.Clean(err.Error())}}
	}
	for _, s := range servers {
		for _, words := range []*string{&s.Server, &s.Dialect, &s.Place, &s.Port, &s.LastStart, &s.Problem} {
			*words = text.Clean(*words)
		}
		if host.CheckName(s.Server) == nil { // what else it may be called cannot be opened
			list = append(list, Distant{Host: name, DistantServer: s})
		}
	}
	return list
}

// limited keeps the first of what comes.
type limited struct{ bytes.Buffer }

// Write takes it all, and keeps what there is room for.
func (l *limited) Write(p []byte) (int, error) {
	l.Buffer.Write(p[:max(min(maxDistant-l.Len(), len(p)), 0)])
	return len(p), nil
}
