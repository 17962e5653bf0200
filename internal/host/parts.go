package host

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"initium/internal/core/intake"
	"initium/internal/core/plan"
)

// Fetch is where the files of a plan's parts come from.
type Fetch struct {
	Sources  map[string]Copier
	Progress func(Progress) // may be nil
}

// Progress tells how far the copying of files has come.
type Progress struct {
	Files, AllFiles int
	Bytes, AllBytes int64
}

// Copier hands out the files of a source that are wanted, each once.
type Copier interface {
	Copy(ctx context.Context, wanted func(name string) bool, put func(name string, r io.Reader) error) error
}

// partRow is one part of an entry as the ledger keeps it.
type partRow struct {
	n              int
	path, mod      string
	what           string
	old, new, base string
	tidy           bool
}

func beginParts(tx *sql.Tx, id int64, parts []plan.Part) error {
	for n := range parts {
		p := &parts[n]
		if _, err := tx.Exec(`INSERT INTO part VALUES (?, ?, ?, ?, ?, ?, ?, ?, 0)`, id, n, p.Path, p.Mod, p.What, p.Old, p.New, p.Base); err != nil {
			return err
		}
		if p.Base == "" {
			continue
		}
		items := p.Release
		if items == nil {
			items = p.Items
		}
		if items == nil {
			continue // a return: what came then is known already
		}
		packed, err := packItems(items)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(`INSERT OR IGNORE INTO release VALUES (?, ?)`, p.Base, packed); err != nil {
			return err
		}
	}
	return nil
}

func packItems(items []plan.Item) ([]byte, error) {
	data, err := json.Marshal(items)
	if err != nil {
		return nil, err
	}
	w, err := zstd.NewWriter(nil)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	return w.EncodeAll(data, nil), nil
}

func (l *Ledger) parts(id int64) (list []partRow, err error) {
	rows, err := l.db.Query(`SELECT n, path, mod, what, old, new, base, tidy FROM part WHERE entry = ? ORDER BY n`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p partRow
		if err := rows.Scan(&p.n, &p.path, &p.mod, &p.what, &p.old, &p.new, &p.base, &p.tidy); err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, rows.Err()
}

// keptDir is where the ledger of a server keeps what its entries took away, each
// under its digest.
func (h Home) keptDir(server string) string { return filepath.Join(h.serverDir(server), "kept") }

// partNames are the two places beside a part where things wait: what comes, and
// what was there.
func partNames(path string, id int64, n int) (fresh, old string) {
	base := filepath.Join(filepath.Dir(path), fmt.Sprintf(".initium-%d-p%d", id, n))
	return base + "-new", base + "-old"
}

// stager puts the parts of one entry beside their places.
type stager struct {
	ctx    context.Context
	ledger *Ledger
	server string
	id     int64
	fetch  *Fetch

	mu sync.Mutex // guards at, and that progress is told one after the other
	at Progress
}

// checkParts looks that what is at the places of parts is what the plan found, and
// that there is room for what comes.
func (l *Ledger) checkParts(server string, p *plan.Plan) error {
	type need struct {
		bytes int64
		dir   string
	}
	needs := map[uint64]*need{}
	want := func(dir string, bytes int64) error {
		_, device, err := room(dir)
		if err != nil {
			return err
		}
		if needs[device] == nil {
			needs[device] = &need{dir: dir}
		}
		needs[device].bytes += bytes
		return nil
	}
	const slack = 4096 // what a file takes besides its bytes
	_, homeDevice, err := room(l.home.Dir)
	if err != nil {
		return err
	}
	for i := range p.Parts {
		part := &p.Parts[i]
		if part.Old == plan.EmptyFolder {
			continue
		}
		items, err := l.contents.List(part.Path)
		if err != nil {
			return fmt.Errorf("change %s: %w", part.Path, err)
		}
		now := ""
		if len(items) > 0 {
			now = plan.Digest(items)
		}
		if now != part.Old {
			return fmt.Errorf("change %s: %w; look at the plan again", part.Path, ErrStale)
		}
		files, bytes := part.Size()
		if part.Items == nil && part.New != "" && part.New != plan.EmptyFolder {
			if _, err := os.Lstat(filepath.Join(l.home.keptDir(server), part.New)); err != nil {
				return fmt.Errorf("bring %s back: the ledger does not have it any more", part.Path)
			}
		}
		if err := want(filepath.Dir(part.Path), bytes+int64(files)*slack); err != nil {
			return err
		}
		if _, device, err := room(filepath.Dir(part.Path)); err == nil && device != homeDevice && part.Old != "" {
			old := plan.Part{Items: items}
			files, bytes := old.Size()
			if err := want(l.home.Dir, bytes+int64(files)*slack); err != nil {
				return err
			}
		}
	}
	for _, n := range needs {
		if free, _, err := room(n.dir); err == nil && free < n.bytes {
			return fmt.Errorf("there is too little room at %s: %s are needed, %s are free", n.dir, intake.Bytes(n.bytes), intake.Bytes(free))
		}
	}
	return nil
}

// stage writes everything that comes beside its place.
func (s *stager) stage(parts []plan.Part) error {
	wanted := map[string]map[string][]target{} // by source and path in it
	for n := range parts {
		p := &parts[n]
		files, bytes := p.Size()
		s.at.AllFiles, s.at.AllBytes = s.at.AllFiles+files, s.at.AllBytes+bytes
		if p.New == "" {
			continue
		}
		if err := s.begin(n, p, wanted); err != nil {
			return fmt.Errorf("put %s in place: %w", p.Path, err)
		}
	}
	for source, files := range wanted {
		from := s.fetch.Sources[source]
		if from == nil {
			return fmt.Errorf("nothing is known of the source %s", source)
		}
		if err := s.copy(from, files); err != nil {
			return err
		}
		for name := range files {
			return fmt.Errorf("%s has changed since it was looked into: %q is gone", source, name)
		}
	}
	done := map[uint64]bool{}
	for n := range parts {
		dir := filepath.Dir(parts[n].Path)
		if _, device, err := room(dir); err != nil || !done[device] {
			if err := errors.Join(err, syncAll(dir)); err != nil {
				return err
			}
			done[device] = true
		}
	}
	return nil
}

// target is a file that is to be written.
type target struct {
	path string
	item plan.Item
}

// begin makes the folders of a part, and copies what is on this machine already.
func (s *stager) begin(n int, p *plan.Part, wanted map[string]map[string][]target) error {
	fresh, _ := partNames(p.Path, s.id, n)
	if p.New == plan.EmptyFolder {
		return makeFolder(p.Path)
	}
	if err := makeFolder(filepath.Dir(p.Path)); err != nil {
		return err
	}
	if p.Items == nil {
		return copyTree(s.ctx, filepath.Join(s.ledger.home.keptDir(s.server), p.New), fresh)
	}
	made := map[string]bool{}
	for _, it := range p.Items {
		full := filepath.Join(fresh, it.Rel)
		dir := filepath.Dir(full)
		if it.Folder {
			dir = full
		}
		if (it.Rel != "" || it.Folder) && !made[dir] {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			made[dir] = true
		}
		switch {
		case it.Folder:
		case it.Link != "":
			if err := os.Symlink(it.Link, full); err != nil {
				return err
			}
		case it.Source == "":
			if err := s.keep(filepath.Join(p.Path, it.From), full); err != nil {
				return err
			}
		default:
			if wanted[it.Source] == nil {
				wanted[it.Source] = map[string][]target{}
			}
			wanted[it.Source][it.From] = append(wanted[it.Source][it.From], target{full, it})
		}
	}
	return s.own(filepath.Dir(p.Path), fresh, made)
}

// keep copies a file of the present state, which stays.
func (s *stager) keep(from, to string) error {
	info, err := os.Lstat(from)
	if err != nil {
		return err
	}
	s.progress(info.Size(), 1)
	return copyOne(from, to, info)
}

func (s *stager) progress(bytes int64, files int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at.Bytes, s.at.Files = s.at.Bytes+bytes, s.at.Files+files
	if s.fetch != nil && s.fetch.Progress != nil {
		s.fetch.Progress(s.at)
	}
}

// copy writes the files that come from one source.
func (s *stager) copy(from Copier, files map[string][]target) error {
	dirs := map[string]bool{} // archives within the archive that are wanted
	for name := range files {
		for i := strings.IndexByte(name, '/'); i > 0 && i < len(name); {
			dirs[name[:i+1]] = true
			next := strings.IndexByte(name[i+1:], '/')
			if next < 0 {
				break
			}
			i += 1 + next
		}
	}
	w := newWriters(s)
	err := from.Copy(s.ctx, func(name string) bool { return len(files[name]) > 0 || dirs[name] }, func(name string, r io.Reader) error {
		targets := files[name]
		delete(files, name)
		return w.put(targets, r)
	})
	return errors.Join(err, w.end())
}

var errOther = errors.New("the source has changed since it was looked into")

// makeFolder makes a folder and those above it, with the owner of the first that
// is there.
func makeFolder(dir string) error {
	info, err := os.Stat(dir)
	if err == nil {
		if !info.IsDir() {
			return &fs.PathError{Op: "make a folder at", Path: dir, Err: syscall.ENOTDIR}
		}
		return nil
	}
	if err := makeFolder(filepath.Dir(dir)); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return chownLike(dir, filepath.Dir(dir))
}

// own gives new folders the owner of the folder that they come into.
func (s *stager) own(parent, fresh string, made map[string]bool) error {
	if os.Getuid() != 0 {
		return nil
	}
	for dir := range made {
		for ; len(dir) >= len(fresh); dir = filepath.Dir(dir) {
			if err := chownLike(dir, parent); err != nil {
				return err
			}
		}
	}
	return nil
}

func chownLike(name, like string) error {
	if os.Getuid() != 0 {
		return nil
	}
	var st unix.Stat_t
	if err := unix.Stat(like, &st); err != nil {
		return err
	}
	return os.Lchown(name, int(st.Uid), int(st.Gid))
}

func ownLike(f *os.File, like string) error {
	if os.Getuid() != 0 {
		return nil
	}
	var st unix.Stat_t
	if err := unix.Stat(like, &st); err != nil {
		return err
	}
	return f.Chown(int(st.Uid), int(st.Gid))
}
