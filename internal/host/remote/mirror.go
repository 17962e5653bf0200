package remote

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
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/renameio/v2"

	"initium/internal/core/text"
)

// Bounds of what is brought here from a host.
const (
	maxEntries = 200_000
	maxDepth   = 32
	maxTotal   = 16 << 30 // bytes of all files
)

// ErrChanged is returned where somebody has changed a file at the host since it was looked at.
var ErrChanged = errors.New("somebody has changed it at the host")

// ErrAhead is returned by Pull while something that was done here has not arrived there.
var ErrAhead = errors.New("what was done here has not arrived at the host yet")

// Mirror is a folder of this machine that holds what a folder of a host does. What is done to a server is done in its
// mirror, as with any other, and then sent.
type Mirror struct {
	Dir   string                // here
	Root  string                // there
	Notes string                // the folder for what is remembered of it
	Last  func(rel string) bool // files that arrive after all others: those that register mods; may be nil
	Mods  func() []string       // the folders of mods, which change as a whole; may be nil

	known map[string]known // by path below the folder

	mu    sync.Mutex
	clock *time.Duration // how far that of the host is ahead, or in another zone; nil before anything was sent
}

// remembered is what is kept of a mirror between two runs.
type remembered struct {
	Files map[string]known `json:"files"`
	Clock *time.Duration   `json:"clock,omitempty"`
}

// known is what was seen of something there, when it was the same as here.
type known struct {
	Kind   Kind      `json:"kind"`
	Size   int64     `json:"size,omitempty"`
	Time   time.Time `json:"time,omitempty"`   // there
	Here   int64     `json:"here,omitempty"`   // when the file here was put there or written to, in Unix ns
	Sum    string    `json:"sum,omitempty"`    // of its bytes
	Fresh  bool      `json:"fresh,omitempty"`  // it was that new that a change in the same moment would not show
	Target string    `json:"target,omitempty"` // of a link
}

// Progress tells how far a transfer has come.
type Progress struct {
	Files, AllFiles int
	Bytes, AllBytes int64
}

// Pulled is what a look at a host has found.
type Pulled struct {
	Files  int      // that are there
	Came   int      // that were fetched, as they are new or other than before
	Names  []string // of those that hold other than before, or are gone, below the folder
	Went   int      // that are gone
	Bytes  int64    // that were fetched
	Passed []string // what was passed over, and why; safe to show
}

func (m *Mirror) indexFile() string { return filepath.Join(m.Notes, "there.json") }

// load reads what is remembered.
func (m *Mirror) load() error {
	if m.known != nil {
		return nil
	}
	data, err := os.ReadFile(m.indexFile())
	if errors.Is(err, fs.ErrNotExist) {
		m.known = map[string]known{}
		return nil
	}
	r := remembered{}
	if err == nil {
		err = json.Unmarshal(data, &r)
	}
	if err != nil {
		return fmt.Errorf("what is remembered of the host cannot be read (%w); take %s away, and all is looked at anew", err, m.indexFile())
	}
	if m.known, m.clock = r.Files, r.Clock; m.known == nil {
		m.known = map[string]known{}
	}
	return nil
}

func (m *Mirror) save() error {
	data, err := json.Marshal(remembered{m.known, m.clock})
	if err != nil {
		return err
	}
	return renameio.WriteFile(m.indexFile(), data, 0o600)
}

func (m *Mirror) there(rel string) string { return path.Join(m.Root, rel) }
func (m *Mirror) here(rel string) string  { return filepath.Join(m.Dir, filepath.FromSlash(rel)) }

// tree lists all that is at the host, with several questions under way at once.
func (m *Mirror) tree(ctx context.Context, h FS) (all map[string]Entry, waiting []Entry, passed []string, err error) {
	type folder struct {
		rel   string
		depth int
	}
	all = map[string]Entry{}
	var mu sync.Mutex
	var wait sync.WaitGroup
	gate := make(chan struct{}, h.Asks())
	fail := func(e error) {
		mu.Lock()
		defer mu.Unlock()
		if err == nil {
			err = e
		}
	}
	var visit func(f folder)
	visit = func(f folder) {
		defer wait.Done()
		gate <- struct{}{}
		list, listed := h.List(m.there(f.rel))
		<-gate
		if listed != nil {
			fail(fmt.Errorf("look into %s: %w", text.Clean(m.there(f.rel)), listed))
			return
		}
		mu.Lock()
		defer mu.Unlock()
		for _, e := range list {
			rel := path.Join(f.rel, e.Name)
			switch {
			case err != nil || ctx.Err() != nil:
				return
			case !goodName(e.Name):
				passed = append(passed, fmt.Sprintf("%s in %s: no name that a file could have here", text.Clean(e.Name), text.Clean(m.there(f.rel))))
				continue
			case strings.HasPrefix(e.Name, waitsPrefix), strings.HasPrefix(e.Name, shownPrefix): // of a transfer that was cut off
				e.Name = rel
				waiting = append(waiting, e)
				continue
			case e.Kind == Other || e.Size < 0:
				passed = append(passed, fmt.Sprintf("%s: neither a file nor a folder", text.Clean(m.there(rel))))
				continue
			case len(all) >= maxEntries || f.depth >= maxDepth:
				err = fmt.Errorf("there are more than %d files, or they lie deeper than %d folders, below %s; adopt the server's own folder", maxEntries, maxDepth, m.Root)
				return
			}
			all[rel] = e
			if e.Kind == Folder {
				wait.Add(1)
				go visit(folder{rel, f.depth + 1})
			}
		}
	}
	wait.Add(1)
	visit(folder{})
	wait.Wait()
	if err == nil {
		err = ctx.Err()
	}
	slices.Sort(passed)
	return all, waiting, passed, err
}

// Pull makes the folder here as the one there is: what has changed there since is fetched. The error is ErrAhead while
// there is something that has to be sent first, or ErrLine.
func (m *Mirror) Pull(ctx context.Context, h FS, progress func(Progress)) (p Pulled, err error) {
	if err := m.load(); err != nil {
		return p, err
	}
	cut := m.pulling()
	if !cut {
		if diff, err := m.ahead(); err != nil || !diff.empty() {
			return p, errors.Join(err, ErrAhead)
		}
	}
	all, waiting, passed, err := m.tree(ctx, h)
	if err != nil {
		return p, err
	}
	m.sweep(h, waiting)
	p.Passed = passed
	if err := errors.Join(os.MkdirAll(m.Dir, 0o700), renameio.WriteFile(m.pullFile(), nil, 0o600)); err != nil {
		return p, err
	}
	if cut {
		if err := m.clear(all); err != nil {
			return p, err
		}
	}
	var fetch []string
	var total int64
	for _, rel := range sortedKeys(all) {
		e := all[rel]
		switch e.Kind {
		case Folder:
			if err := m.folderHere(rel); err != nil {
				return p, err
			}
			m.known[rel] = known{Kind: Folder}
			continue
		case Link:
			p.Passed = append(p.Passed, fmt.Sprintf("%s: a link, which is not followed over the line", text.Clean(m.there(rel))))
			delete(all, rel)
			continue
		}
		p.Files++
		total += e.Size
		if k, ok := m.known[rel]; !ok || k.Fresh || k.Kind != File || !e.Same(Entry{Kind: File, Size: k.Size, Time: k.Time}) || !m.still(rel, k) {
			fetch = append(fetch, rel)
		}
	}
	if total > maxTotal {
		return p, fmt.Errorf("there are %d MB below %s, more than is brought here; adopt the server's own folder", total>>20, m.Root)
	}
	for _, rel := range slices.Backward(sortedKeys(m.known)) { // what is in a folder before it
		if _, there := all[rel]; there {
			continue
		}
		if err := os.Remove(m.here(rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return p, err
		}
		if m.known[rel].Kind == File {
			p.Went++
			p.Names = append(p.Names, rel)
		}
		delete(m.known, rel)
	}
	if err := errors.Join(m.fetch(ctx, h, all, fetch, &p, progress), m.save()); err != nil {
		return p, err
	}
	return p, os.Remove(m.pullFile())
}

// pullFile is there while a pull is under way. One that is found was cut off: what is otherwise here than it was there
// then has come from there, as nothing is done to a server before a pull has come to its end.
func (m *Mirror) pullFile() string { return filepath.Join(m.Notes, "pulling") }

func (m *Mirror) pulling() bool {
	_, err := os.Lstat(m.pullFile())
	return err == nil
}

// clear takes away what a pull that was cut off has brought here, and is not there any more.
func (m *Mirror) clear(all map[string]Entry) error {
	var away []string
	err := filepath.WalkDir(m.Dir, func(full string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(m.Dir, full) // of what lies below it there is one
		if err != nil || rel == "." {
			return err
		}
		if there, ok := all[filepath.ToSlash(rel)]; !ok || (there.Kind == Folder) != e.IsDir() {
			away = append(away, full)
		}
		return nil
	})
	for _, full := range slices.Backward(away) {
		err = errors.Join(err, gone(os.Remove(full)))
	}
	return err
}

// gone is the error of taking something away that may be away already.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// sweep takes away what an own push has left that nothing came of. What cannot be taken away is in nobody's way.
func (m *Mirror) sweep(h FS, waiting []Entry) {
	if _, err := os.Stat(m.journalFile()); err != nil {
		return
	}
	mark := m.journal().Mark
	for _, e := range waiting {
		if name := path.Base(e.Name); strings.HasPrefix(name, waitsPrefix+mark) || strings.HasPrefix(name, shownPrefix+mark) {
			away(h, m.there(e.Name), e.Kind)
		}
	}
	_ = os.Remove(m.journalFile())
}

// away takes something away with all that is in it, as far as it can be.
func away(h FS, name string, kind Kind) {
	if kind != Folder {
		_ = h.Remove(name)
		return
	}
	list, err := h.List(name)
	if err != nil {
		return
	}
	for _, in := range list {
		if goodName(in.Name) {
			away(h, path.Join(name, in.Name), in.Kind)
		}
	}
	_ = h.RemoveFolder(name)
}

// still tells whether a file here holds what it did when it was as the one there. One that has another time by now is
// read for that.
func (m *Mirror) still(rel string, k known) bool {
	info, err := os.Lstat(m.here(rel))
	if err != nil || !info.Mode().IsRegular() || info.Size() != k.Size {
		return false
	}
	if changed(info) == k.Here {
		return true
	}
	if sum, err := sumOf(m.here(rel)); err != nil || sum != k.Sum {
		return false
	}
	k.Here = changed(info)
	m.known[rel] = k
	return true
}

// changed is when a file was put where it is or written to, in Unix ns: its change time, which nobody sets, and not the
// time of its last writing, which what is put back has from before.
func changed(info fs.FileInfo) int64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Ctim.Nano()
	}
	return info.ModTime().UnixNano()
}

func sumOf(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// folderHere makes a folder here, in the place of a file where one stood.
func (m *Mirror) folderHere(rel string) error {
	if info, err := os.Lstat(m.here(rel)); err == nil && !info.IsDir() {
		if err := os.Remove(m.here(rel)); err != nil {
			return err
		}
	}
	return os.MkdirAll(m.here(rel), 0o755)
}

// fetch brings files here, several at once.
func (m *Mirror) fetch(ctx context.Context, h FS, all map[string]Entry, files []string, p *Pulled, progress func(Progress)) error {
	at := Progress{AllFiles: len(files)}
	for _, rel := range files {
		at.AllBytes += all[rel].Size
	}
	var mu sync.Mutex
	files = slices.Clone(files)
	slices.SortStableFunc(files, func(a, b string) int { return smallFirst(all[a].Size, all[b].Size) })
	large := make(chan struct{}, h.Lines())
	return side(ctx, h.Asks(), files, func(ctx context.Context, rel string) error {
		e := all[rel]
		if e.Size > small {
			large <- struct{}{}
			defer func() { <-large }()
		}
		k, err := m.fetchOne(ctx, h, rel, e)
		mu.Lock()
		defer mu.Unlock()
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			p.Passed = append(p.Passed, text.Clean(m.there(rel))+": "+text.Clean(err.Error()))
			return nil
		}
		if err != nil {
			return fmt.Errorf("fetch %s: %w", text.Clean(m.there(rel)), err)
		}
		if was, ok := m.known[rel]; !ok || was.Sum != k.Sum {
			p.Names = append(p.Names, rel)
		}
		m.known[rel] = k
		p.Came, p.Bytes = p.Came+1, p.Bytes+k.Size
		if at.Files, at.Bytes = p.Came, p.Bytes; progress != nil {
			progress(at)
		}
		return nil
	})
}

// fetchOne brings one file here. One that changes meanwhile is fetched once more.
func (m *Mirror) fetchOne(ctx context.Context, h FS, rel string, e Entry) (k known, err error) {
	if info, err := os.Lstat(m.here(rel)); err == nil && info.IsDir() {
		if err := os.Remove(m.here(rel)); err != nil {
			return k, err
		}
	}
	for range 3 {
		out, err := renameio.NewPendingFile(m.here(rel), renameio.WithPermissions(0o644))
		if err != nil {
			return k, err
		}
		sum := sha256.New()
		bound := &bounded{w: io.MultiWriter(out, sum), left: e.Size}
		err = h.Get(ctx, m.there(rel), 0, bound)
		if err == nil && bound.left == 0 && !bound.more {
			if m.holds(rel, out.Name()) { // it was looked at once more, and is the same
				err = out.Cleanup()
			} else if err = os.Chtimes(out.Name(), e.Time, e.Time); err == nil {
				err = out.CloseAtomicallyReplace()
			}
			if err != nil {
				return k, err
			}
			info, err := os.Lstat(m.here(rel))
			if err != nil {
				return k, err
			}
			return known{Kind: File, Size: e.Size, Time: e.Time, Here: changed(info), Sum: hex.EncodeToString(sum.Sum(nil)), Fresh: m.fresh(h, e.Time)}, nil
		}
		out.Cleanup()
		if err != nil && !bound.more {
			return k, err
		}
		if e, err = h.Stat(m.there(rel)); err != nil {
			return k, err
		}
	}
	return k, errors.New("it changes all the time, or the host says another size than it has")
}

// holds tells whether a file here holds the same as another.
func (m *Mirror) holds(rel, other string) bool {
	a, err := os.Open(m.here(rel))
	if err != nil {
		return false
	}
	defer a.Close()
	b, err := os.Open(other)
	if err != nil {
		return false
	}
	defer b.Close()
	same := &comparing{with: a}
	if _, err := io.Copy(same, b); err != nil {
		return false
	}
	n, _ := a.Read(make([]byte, 1)) // and nothing more
	return n == 0
}

// bounded takes no more than was announced.
type bounded struct {
	w    io.Writer
	left int64
	more bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if int64(len(p)) > b.left {
		b.more = true
		return 0, errors.New("it is larger than the host says")
	}
	n, err := b.w.Write(p)
	b.left -= int64(n)
	return n, err
}

// small is the size, in bytes, up to which a file costs the way there and back, and hardly the line.
const small = 64 << 10

// smallFirst puts small files before large ones: those that wait for the line keep no other from being asked for.
func smallFirst(a, b int64) int {
	switch {
	case (a > small) == (b > small):
		return 0
	case a > small:
		return 1
	}
	return -1
}

// side does something for each of a list, several at once, and stops at the first error.
func side[T any](ctx context.Context, many int, list []T, do func(ctx context.Context, one T) error) (err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var mu sync.Mutex
	var wait sync.WaitGroup
	next := make(chan T)
	for range min(many, max(len(list), 1)) {
		wait.Go(func() {
			for one := range next {
				if ctx.Err() != nil {
					continue
				}
				if e := do(ctx, one); e != nil {
					mu.Lock()
					if err == nil {
						err = e
					}
					mu.Unlock()
					stop()
				}
			}
		})
	}
	for _, one := range list {
		next <- one
	}
	close(next)
	wait.Wait()
	if err == nil {
		err = ctx.Err()
	}
	return err
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// difference is what is otherwise here than it was there.
type difference struct {
	folders []string // that are new here, with what is in them
	files   []string // that are new or changed in folders that are there
	gone    []string // files and folders, what is in a folder before it
}

func (d *difference) empty() bool { return len(d.folders)+len(d.files)+len(d.gone) == 0 }

// ahead compares the folder here with what was there.
func (m *Mirror) ahead() (d difference, err error) {
	if len(m.known) == 0 || m.pulling() {
		return d, nil // nothing was looked at yet, or what differs has come from there
	}
	seen := map[string]bool{}
	err = filepath.WalkDir(m.Dir, func(full string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(m.Dir, full)
		if err != nil || rel == "." {
			return err
		}
		rel = filepath.ToSlash(rel)
		seen[rel] = true
		k, ok := m.known[rel]
		switch {
		case e.IsDir() && ok && k.Kind == Folder:
		case e.IsDir():
			if ok { // a file is there
				d.gone = append(d.gone, rel)
			}
			d.folders = append(d.folders, rel)
			return filepath.SkipDir
		case !e.Type().IsRegular():
			return fmt.Errorf("%s is neither a file nor a folder, and cannot be sent", full)
		case !ok || k.Kind != File || !m.still(rel, k):
			d.files = append(d.files, rel)
		}
		return nil
	})
	for _, rel := range slices.Backward(sortedKeys(m.known)) {
		if !seen[rel] && !slices.ContainsFunc(d.folders, func(f string) bool { return strings.HasPrefix(rel, f+"/") }) {
			d.gone = append(d.gone, rel)
		}
	}
	return d, err
}

// Ahead lists what has not arrived at the host yet, in words that are safe to show.
func (m *Mirror) Ahead() (said []string, err error) {
	if err := m.load(); err != nil {
		return nil, err
	}
	d, err := m.ahead()
	for _, f := range d.folders {
		said = append(said, "the folder "+text.Clean(f)+" comes")
	}
	for _, f := range d.files {
		verb := "comes"
		if _, ok := m.known[f]; ok {
			verb = "changes"
		}
		said = append(said, text.Clean(f)+" "+verb)
	}
	for _, f := range d.gone {
		said = append(said, text.Clean(f)+" goes")
	}
	return said, err
}

// waitsPrefix is what the names begin with of what waits beside its place at the host.
const waitsPrefix = ".initium-"

// shownPrefix is the same at hosts whose lists leave out names that begin with a dot.
const shownPrefix = "initium-waits-"

// hides tells whether the lists of a host leave out names that begin with a dot, which some over FTP do, by a folder of
// such a name. Where none can be made to find it out, it is taken for no.
func hides(h FS, folder string) (bool, error) {
	if _, ok := h.(linker); ok {
		return false, nil
	}
	made := h.MakeFolder(folder)
	if errors.Is(made, ErrLine) {
		return false, made
	}
	list, err := h.List(path.Dir(folder))
	if err != nil {
		return false, err
	}
	shown := slices.ContainsFunc(list, func(e Entry) bool { return e.Name == path.Base(folder) })
	removed := h.RemoveFolder(folder)
	if errors.Is(removed, ErrLine) {
		return false, removed
	}
	return !shown && (made == nil || removed == nil), nil // one that is there already is of a push that was cut off here
}

// journal is what a push is about, so that another one can go on with what has arrived.
type journal struct {
	Mark  string            `json:"mark"`
	Whole map[string]string `json:"whole"` // what has arrived as a whole: where it waits, to what shows that it is still the same here
	Made  map[string]string `json:"made"`  // the new folders of mods that change: where they wait, to a digest of what they are of

	Plain bool `json:"plain,omitempty"` // the names of what waits begin with no dot
	Asked bool `json:"asked,omitempty"` // that is known

	Placing bool     `json:"placing"`          // all has, and is being put in place
	Wholes  []string `json:"wholes,omitempty"` // the folders then that change as a whole

	tried bool // an earlier push has begun with it
}

func (m *Mirror) journalFile() string { return filepath.Join(m.Notes, "sending.json") }

func (m *Mirror) journal() *journal {
	j := &journal{}
	if data, err := os.ReadFile(m.journalFile()); err != nil || json.Unmarshal(data, j) != nil || j.Mark == "" {
		j = &journal{Mark: rand.Text()[:12]} // what an unreadable one has sent is taken away with the rest
	} else {
		j.tried = true
	}
	if j.Whole == nil {
		j.Whole = map[string]string{}
	}
	if j.Made == nil {
		j.Made = map[string]string{}
	}
	return j
}

func (m *Mirror) keep(j *journal) error {
	data, err := json.Marshal(j)
	if err != nil {
		return err
	}
	return renameio.WriteFile(m.journalFile(), data, 0o600)
}

// sending is one file that goes up.
type sending struct {
	rel   string // what it is here
	waits string // where it waits there
	place string // what it will replace there, "" where it is new
	size  int64
}

// Push makes the folder there as the one here is. Everything goes up under other names first, beside its place, and is
// looked at; only then it is put in place, by renames: new folders whole, and mods in which much changes, then files,
// those that register mods last, and then what is gone is taken away. Cut off anywhere, the next push goes on. The error is ErrChanged, with the names,
// where somebody has changed there what would be replaced; then nothing is.
func (m *Mirror) Push(ctx context.Context, h FS, progress func(Progress)) error {
	if err := m.load(); err != nil {
		return err
	}
	d, err := m.ahead()
	if err != nil {
		return err
	}
	if d.empty() { // what an earlier push was about has all arrived
		return gone(os.Remove(m.journalFile()))
	}
	j := m.journal()
	wait, err := m.waiting(h, j)
	if err != nil {
		return err
	}
	var parts, done []part
	if j.Placing {
		if parts, done, err = m.swappedOf(h, d.split(j.Wholes), wait); err == nil {
			err = m.placed(ctx, h, &d, wait)
		}
	} else {
		var tops []string
		tops, err = m.wholes(ctx, h, &d)
		parts = d.split(tops)
	}
	if err != nil {
		return err
	}
	checked := func() error {
		list := d
		for _, p := range parts {
			list = list.with(p.difference)
		}
		return m.unchanged(h, list)
	}
	if err := checked(); err != nil {
		return err
	}
	list, parts, back, err := m.prepareAll(ctx, h, j, parts, wait)
	if err != nil {
		return err
	}
	d = d.with(back)
	more, folders, err := m.outgoing(d, wait)
	if err != nil {
		return err
	}
	list = append(list, more...)
	if err := makeFolders(h, folders); err != nil {
		return err
	}
	if err := m.send(ctx, h, j, list, progress); err != nil {
		return err
	}
	if err := checked(); err != nil { // while it went up
		return err
	}
	if !j.Placing {
		for _, p := range parts {
			j.Wholes = append(j.Wholes, p.top)
		}
	}
	j.Placing = true
	if err := m.keep(j); err != nil {
		return err
	}
	if err := m.place(h, d, parts, wait); err != nil {
		return errors.Join(err, m.save())
	}
	for _, p := range slices.Concat(done, parts) {
		if err := m.settle(ctx, h, p, wait(p.top)); err != nil {
			return errors.Join(err, m.save())
		}
	}
	if err := m.save(); err != nil {
		return err
	}
	return os.Remove(m.journalFile())
}

// waiting keeps what a push is about, and tells where each thing waits for its place at the host: beside that, under a
// name that its lists show.
func (m *Mirror) waiting(h FS, j *journal) (wait func(rel string) string, err error) {
	if err := m.keep(j); err != nil {
		return nil, err
	}
	if !j.Asked {
		if j.Plain, err = hides(h, m.there(waitsPrefix+j.Mark)); err != nil {
			return nil, err
		}
		j.Asked = true
		if err := m.keep(j); err != nil {
			return nil, err
		}
	}
	prefix := waitsPrefix
	if j.Plain {
		prefix = shownPrefix
	}
	return func(rel string) string {
		sum := sha256.Sum256([]byte(rel))
		return m.there(path.Join(path.Dir(rel), prefix+j.Mark+"-"+hex.EncodeToString(sum[:6])))
	}, nil
}

func makeFolders(h FS, list []string) error {
	for _, f := range list {
		if err := h.MakeFolder(f); err != nil {
			if e, looked := h.Stat(f); looked != nil || e.Kind != Folder {
				return fmt.Errorf("make the folder %s at the host: %w", text.Clean(f), err)
			}
		}
	}
	return nil
}

// placed leaves out what an earlier push has put in place before it was cut off: it waits nowhere any more, and what
// is there is what was sent.
func (m *Mirror) placed(ctx context.Context, h FS, d *difference, wait func(string) string) (err error) {
	left := func(list []string, kind Kind) (rest []string, err error) {
		for _, rel := range list {
			done, err := m.isPlaced(ctx, h, rel, kind, wait(rel))
			if err == nil && done {
				err = m.learn(h, rel)
			}
			if err != nil {
				return nil, err
			}
			if !done {
				rest = append(rest, rel)
			}
		}
		return rest, nil
	}
	if d.folders, err = left(d.folders, Folder); err == nil {
		d.files, err = left(d.files, File)
	}
	return err
}

// isPlaced tells whether something has left the place where it waited, and is where it belongs.
func (m *Mirror) isPlaced(ctx context.Context, h FS, rel string, kind Kind, waits string) (bool, error) {
	if _, err := h.Stat(waits); !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	e, err := h.Stat(m.there(rel))
	if errors.Is(err, fs.ErrNotExist) || err == nil && e.Kind != kind {
		return false, nil
	}
	if err != nil || kind == Folder {
		return err == nil, err
	}
	data, err := os.Open(m.here(rel))
	if err != nil {
		return false, err
	}
	defer data.Close()
	back := &comparing{with: data}
	err = h.Get(ctx, m.there(rel), 0, back)
	if n, _ := data.Read(make([]byte, 1)); back.other || n > 0 && err == nil {
		return false, nil
	}
	return err == nil, err
}

// unchanged looks that nothing that would be replaced or taken away is other than it was.
func (m *Mirror) unchanged(h FS, d difference) error {
	var mu sync.Mutex
	var changed []string
	list := slices.Concat(d.folders, d.files, d.gone)
	err := side(context.Background(), h.Asks(), list, func(_ context.Context, rel string) error {
		for _, element := range strings.Split(rel, "/") {
			if !goodName(element) {
				return fmt.Errorf("%s has a name that is not sent to a host", text.Clean(rel))
			}
		}
		now, err := h.Stat(m.there(rel))
		k, ok := m.known[rel]
		switch {
		case errors.Is(err, fs.ErrNotExist) && (!ok || slices.Contains(d.gone, rel)):
			return nil
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return err
		case err == nil && ok && (k.Kind == Folder && now.Kind == Folder || now.Same(Entry{Kind: k.Kind, Size: k.Size, Time: k.Time})):
			return nil
		}
		mu.Lock()
		defer mu.Unlock()
		changed = append(changed, text.Clean(rel))
		return nil
	})
	if err == nil && len(changed) > 0 {
		slices.Sort(changed)
		err = fmt.Errorf("%w since it was looked at: %s", ErrChanged, strings.Join(changed, ", "))
	}
	return err
}

// outgoing lists what goes up, and the folders that it goes into.
func (m *Mirror) outgoing(d difference, wait func(string) string) (list []sending, folders []string, err error) {
	add := func(rel, waits string) error {
		info, err := os.Lstat(m.here(rel))
		if err == nil {
			s := sending{rel: rel, waits: waits, size: info.Size()}
			if k, ok := m.known[rel]; ok && k.Kind == File {
				s.place = m.there(rel)
			}
			list = append(list, s)
		}
		return err
	}
	for _, rel := range d.files {
		if err := add(rel, wait(rel)); err != nil {
			return nil, nil, err
		}
	}
	for _, top := range d.folders {
		err := filepath.WalkDir(m.here(top), func(full string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			below, err := filepath.Rel(m.here(top), full)
			if err != nil {
				return err
			}
			below = filepath.ToSlash(below)
			if below != "." && !goodName(path.Base(below)) {
				return fmt.Errorf("%s has a name that is not sent to a host", text.Clean(full))
			}
			waits := path.Join(wait(top), below)
			if e.IsDir() {
				folders = append(folders, waits)
				return nil
			}
			if !e.Type().IsRegular() {
				return fmt.Errorf("%s is neither a file nor a folder, and cannot be sent", full)
			}
			return add(path.Join(top, below), waits)
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return list, folders, nil
}

// send brings files up, several at once, and looks at each.
func (m *Mirror) send(ctx context.Context, h FS, j *journal, list []sending, progress func(Progress)) error {
	at := Progress{AllFiles: len(list)}
	for _, s := range list {
		at.AllBytes += s.size
	}
	var mu sync.Mutex
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b sending) int { return smallFirst(a.size, b.size) })
	large := make(chan struct{}, h.Lines())
	err := side(ctx, h.Asks(), list, func(ctx context.Context, s sending) error {
		if s.size > small {
			large <- struct{}{}
			defer func() { <-large }()
		}
		data, err := os.Open(m.here(s.rel))
		if err != nil {
			return err
		}
		defer data.Close()
		info, err := data.Stat()
		if err != nil {
			return err
		}
		whole := fmt.Sprint(info.Size(), " ", changed(info))
		mu.Lock()
		arrived := j.Whole[s.waits] == whole
		mu.Unlock()
		err = m.sendOne(ctx, h, s, data, arrived, j.tried)
		if err == nil && s.place != "" {
			err = like(h, s.waits, s.place)
		}
		if err != nil {
			return fmt.Errorf("send %s: %w", text.Clean(s.rel), err)
		}
		mu.Lock()
		defer mu.Unlock()
		j.Whole[s.waits] = whole
		if at.Files, at.Bytes = at.Files+1, at.Bytes+s.size; progress != nil {
			progress(at)
		}
		return nil
	})
	return errors.Join(err, m.keep(j))
}

// readBack is the size up to which what was sent is read once more, as hosts know no digests.
const readBack = 1 << 20

// sendOne brings one file up, and looks at what has arrived. tried tells that an earlier push has begun with it.
func (m *Mirror) sendOne(ctx context.Context, h FS, s sending, data *os.File, arrived, tried bool) error {
	from := int64(0)
	if tried {
		var err error
		if from, err = m.begunWith(ctx, h, s, data, arrived); err != nil || arrived && from == s.size {
			return err
		}
	}
	if from < s.size || s.size == 0 {
		err := h.Put(ctx, s.waits, io.NewSectionReader(data, from, s.size-from), from)
		if from > 0 && err != nil && !errors.Is(err, ErrLine) && ctx.Err() == nil { // there are hosts that cannot go on
			err = h.Put(ctx, s.waits, io.NewSectionReader(data, 0, s.size), 0)
		}
		if err != nil {
			return err
		}
	}
	n, back := int64(0), &comparing{with: io.NewSectionReader(data, 0, s.size)}
	var err error
	if s.size > readBack {
		n, err = h.Size(s.waits)
	} else { // its size is known then, too
		err = h.Get(ctx, s.waits, 0, back)
		n = back.same
	}
	switch {
	case back.other:
		return errors.New("what has arrived is not what was sent")
	case err != nil:
		return err
	case n != s.size:
		return fmt.Errorf("%d bytes of %d have arrived; is the host's disk full?", n, s.size)
	}
	return nil
}

// begunWith is how much of a file has arrived before, and is right.
func (m *Mirror) begunWith(ctx context.Context, h FS, s sending, data *os.File, arrived bool) (from int64, err error) {
	n, err := h.Size(s.waits)
	switch {
	case errors.Is(err, ErrLine):
		return 0, err
	case err != nil || n > s.size || n == 0:
		return 0, nil
	case arrived && n == s.size:
		return n, nil
	}
	same := &comparing{with: io.NewSectionReader(data, 0, n)}
	if err := h.Get(ctx, s.waits, 0, same); errors.Is(err, ErrLine) && !same.other {
		return 0, err
	} else if err != nil || same.other {
		return 0, nil
	}
	return n, nil
}

// comparing holds what comes against what it should be.
type comparing struct {
	with  io.Reader
	same  int64 // the bytes so far
	other bool
}

func (c *comparing) Write(p []byte) (int, error) {
	want := make([]byte, len(p))
	if _, err := io.ReadFull(c.with, want); err != nil || !bytes.Equal(want, p) {
		c.other = true
		return 0, errors.New("it differs")
	}
	c.same += int64(len(p))
	return len(p), nil
}

// place puts what waits in its place, and takes away what is gone.
func (m *Mirror) place(h FS, d difference, parts []part, wait func(string) string) error {
	files := slices.Clone(d.files)
	slices.SortStableFunc(files, func(a, b string) int { return m.rank(a) - m.rank(b) })
	taken := map[string]bool{}
	for _, rel := range d.gone { // what stands where something comes
		if slices.Contains(d.folders, rel) {
			if err := h.Remove(m.there(rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("take %s away: %w", text.Clean(rel), err)
			}
			taken[rel] = true
		}
	}
	for _, p := range parts {
		if !p.goes {
			if err := m.swap(h, p, wait(p.top)); err != nil {
				return fmt.Errorf("put %s in place: %w", text.Clean(p.top), err)
			}
		}
	}
	for _, rel := range slices.Concat(d.folders, files) {
		if err := m.putIn(h, wait(rel), m.there(rel)); err != nil {
			return fmt.Errorf("put %s in place: %w", text.Clean(rel), err)
		}
		if err := m.learn(h, rel); err != nil {
			return err
		}
	}
	m.listen(h, files)
	for _, p := range parts {
		if p.goes {
			if err := m.swap(h, p, wait(p.top)); err != nil {
				return fmt.Errorf("take %s away: %w", text.Clean(p.top), err)
			}
		}
	}
	for _, rel := range d.gone {
		if taken[rel] {
			continue
		}
		remove := h.Remove
		if m.known[rel].Kind == Folder {
			remove = h.RemoveFolder
		}
		if err := remove(m.there(rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("take %s away: %w", text.Clean(rel), err)
		}
		delete(m.known, rel)
	}
	return nil
}

func (m *Mirror) rank(rel string) int {
	if m.Last != nil && m.Last(rel) {
		return 1
	}
	return 0
}

// putIn renames something into its place. A host that does not rename over what is there has that put aside first, and
// brought back when the second step fails.
func (m *Mirror) putIn(h FS, waits, place string) error {
	first := h.Rename(waits, place)
	if first == nil || errors.Is(first, ErrLine) {
		return first
	}
	if e, err := h.Stat(place); err != nil || e.Kind != File {
		return first
	}
	aside := waits + "-old"
	if err := h.Rename(place, aside); err != nil {
		return errors.Join(first, err)
	}
	if err := h.Rename(waits, place); err != nil {
		return errors.Join(err, h.Rename(aside, place))
	}
	return h.Remove(aside)
}

// learn remembers what has just been put in place, a folder with all that is in it.
func (m *Mirror) learn(h FS, rel string) error {
	e, err := h.Stat(m.there(rel))
	if err != nil {
		return err
	}
	if e.Kind == Folder {
		m.known[rel] = known{Kind: Folder}
		list, err := h.List(m.there(rel))
		if err != nil {
			return err
		}
		for _, in := range list {
			if goodName(in.Name) {
				if err := m.learnEntry(h, path.Join(rel, in.Name), in); err != nil {
					return err
				}
			}
		}
		return nil
	}
	return m.learnEntry(h, rel, e)
}

func (m *Mirror) learnEntry(h FS, rel string, e Entry) error {
	if e.Kind == Folder {
		if _, err := os.Lstat(m.here(rel)); errors.Is(err, fs.ErrNotExist) {
			return nil // somebody else's
		}
		return m.learn(h, rel)
	}
	if k, ok := m.known[rel]; ok && !k.Fresh && e.Same(Entry{Kind: k.Kind, Size: k.Size, Time: k.Time}) && m.still(rel, k) {
		return nil // it stays
	}
	info, err := os.Lstat(m.here(rel))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // somebody else's
	}
	if err != nil {
		return err
	}
	sum, err := sumOf(m.here(rel))
	if err != nil {
		return err
	}
	m.known[rel] = known{Kind: File, Size: e.Size, Time: e.Time, Here: changed(info), Sum: sum}
	return nil
}

// listen learns how the host's clock stands from files that have just been replaced. Somebody else may write to one in
// the same moment, which its time would not show: those are looked at once more, but for what is large.
func (m *Mirror) listen(h FS, files []string) {
	newest := Entry{}
	for _, rel := range files {
		if t := m.known[rel].Time; t.After(newest.Time) {
			newest.Time = t
		}
	}
	if len(files) > 0 {
		m.hear(h, newest)
	}
	for _, rel := range files {
		k := m.known[rel]
		k.Fresh = k.Size <= readBack && m.fresh(h, k.Time)
		m.known[rel] = k
	}
}

// fresh tells whether something was changed that recently, by the clock of the host, that another change might show the
// same time. While nothing is known of that clock, much counts as recent.
func (m *Mirror) fresh(h FS, t time.Time) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	window, age := h.Grain()+2*time.Second, time.Since(t)
	switch {
	case m.clock != nil:
		age += *m.clock
	case h.Grain() > time.Second: // who tells minutes tells them in his own zone
		window = 26 * time.Hour
	default:
		window = 2 * time.Minute
	}
	return age > -window && age < window
}

// hear learns from something that was just written how the host's clock stands.
func (m *Mirror) hear(h FS, e Entry) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if ahead := time.Until(e.Time).Round(h.Grain()); m.clock == nil || ahead != *m.clock {
		m.clock = &ahead
	}
}
