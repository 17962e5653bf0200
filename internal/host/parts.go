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

// preparer puts the parts of one entry beside their places.
type preparer struct {
	ctx    context.Context
	ledger *Ledger
	server string
	fresh  []string // where each part waits
	fetch  *Fetch

	mu sync.Mutex // guards at, and that progress is told one after the other
	at Progress
}

// checkParts looks that what is at the places of parts is what the plan found, and
// that there is room for what comes.
func (l *Ledger) checkParts(server string, p *plan.Plan) error {
	needs := rooms{}
	_, homeDevice, err := room(l.home.Dir)
	if err != nil {
		return err
	}
	for i := range p.Parts {
		part := &p.Parts[i]
		if part.Old == plan.EmptyFolder {
			continue
		}
		if _, err := follow(filepath.Dir(part.Path), true); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("change %s: %w", part.Path, err)
		}
		items, err := l.digests.List(part.Path)
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
		if part.Items == nil && part.New != "" && part.New != plan.EmptyFolder && !exists(filepath.Join(l.home.keptDir(server), part.New)) {
			return fmt.Errorf("bring %s back: the ledger does not have it any more", part.Path)
		}
		device, err := needs.add(filepath.Dir(part.Path), part)
		if err != nil {
			return err
		}
		if device != homeDevice && part.Old != "" { // what was there is copied into the home
			if _, err := needs.add(l.home.Dir, &plan.Part{Items: items}); err != nil {
				return err
			}
		}
	}
	return needs.check()
}

// rooms are what will be written to each file system, by its device.
type rooms map[uint64]*struct {
	dir   string
	bytes int64
}

// add notes that the files of a part will be written to a folder.
func (r rooms) add(dir string, p *plan.Part) (device uint64, err error) {
	const slack = 4096 // what a file takes besides its bytes
	_, device, err = room(dir)
	if err != nil {
		return 0, err
	}
	if r[device] == nil {
		r[device] = &struct {
			dir   string
			bytes int64
		}{dir: dir}
	}
	files, bytes := p.Size()
	r[device].bytes += bytes + int64(files)*slack
	return device, nil
}

func (r rooms) check() error {
	for _, n := range r {
		if free, _, err := room(n.dir); err == nil && free < n.bytes {
			return fmt.Errorf("there is too little room at %s: %s are needed, %s are free", n.dir, intake.Bytes(n.bytes), intake.Bytes(free))
		}
	}
	return nil
}

// prepare writes everything that comes beside its place.
func (s *preparer) prepare(parts []plan.Part) error {
	var nests []*nest
	defer func() {
		for _, n := range nests {
			n.close()
		}
	}()
	wanted := map[string]map[string][]target{} // by source and path in it
	for i := range parts {
		p := &parts[i]
		files, bytes := p.Size()
		s.at.AllFiles, s.at.AllBytes = s.at.AllFiles+files, s.at.AllBytes+bytes
		if p.New == "" {
			continue
		}
		n, err := s.begin(s.fresh[i], p, wanted)
		if n != nil {
			nests = append(nests, n)
		}
		if err != nil {
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
	for _, n := range nests {
		if err := n.give(); err != nil {
			return err
		}
	}
	return syncParts(parts)
}

// syncParts brings all that was written to the disk, each file system once.
func syncParts(parts []plan.Part) error {
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
	nest *nest
	rel  string // below what the nest holds open
	item plan.Item
}

// nest is where a part waits while it is written. All goes through the handle of a folder:
// whatever somebody puts in its place meanwhile, nothing is written anywhere else. Its
// folders are given away when all is in them.
type nest struct {
	name     string   // of the part, in its folder
	at       *os.Root // the folder that the part comes into
	root     *os.Root // the part itself; at, for one that is a single file
	uid, gid int      // whose things in that folder are; -1 where nothing can be given away
	folders  map[string]bool
}

// openNest makes the place for a part that is a folder, or that of a single file.
func openNest(fresh string, folder bool) (*nest, error) {
	at, err := os.OpenRoot(filepath.Dir(fresh))
	if err != nil {
		return nil, err
	}
	n := &nest{name: filepath.Base(fresh), at: at, root: at, uid: -1, gid: -1, folders: map[string]bool{}}
	if n.uid, n.gid, err = ownersIn(at); err != nil || !folder {
		return n, err
	}
	if err = at.Mkdir(n.name, 0o755); err == nil {
		n.root, err = at.OpenRoot(n.name)
	}
	return n, err
}

// ownersIn tells to whom new things in a folder are given: to whom it belongs, where that
// can be done.
func ownersIn(at *os.Root) (uid, gid int, err error) {
	if os.Getuid() != 0 {
		return -1, -1, nil
	}
	info, err := at.Stat(".")
	if err != nil {
		return -1, -1, err
	}
	sys, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return -1, -1, nil
	}
	return int(sys.Uid), int(sys.Gid), nil
}

// folder makes a folder in the nest, and those above it.
func (n *nest) folder(rel string) error {
	if n.folders[rel] {
		return nil
	}
	if err := n.root.MkdirAll(rel, 0o755); err != nil {
		return err
	}
	for ; rel != "." && !n.folders[rel]; rel = filepath.Dir(rel) {
		n.folders[rel] = true
	}
	return nil
}

// give gives the folders of the nest to the owner of the one that it comes into.
func (n *nest) give() error {
	if n.uid < 0 || n.root == n.at {
		return nil
	}
	for rel := range n.folders {
		if err := n.root.Lchown(rel, n.uid, n.gid); err != nil {
			return err
		}
	}
	return n.root.Chown(".", n.uid, n.gid)
}

func (n *nest) close() {
	if n.root != nil && n.root != n.at {
		n.root.Close()
	}
	n.at.Close()
}

// begin makes the folders of a part, and copies what is on this machine already.
func (s *preparer) begin(fresh string, p *plan.Part, wanted map[string]map[string][]target) (*nest, error) {
	if p.New == plan.EmptyFolder {
		return nil, makeFolder(p.Path)
	}
	if err := makeFolder(filepath.Dir(p.Path)); err != nil {
		return nil, err
	}
	if p.Items == nil {
		return nil, s.bringBack(p, fresh)
	}
	n, err := openNest(fresh, !(len(p.Items) == 1 && p.Items[0].Rel == "" && !p.Items[0].Folder))
	if err != nil {
		return n, err
	}
	for _, it := range p.Items {
		rel := it.Rel
		if n.root == n.at {
			rel = n.name
		}
		if dir := filepath.Dir(rel); dir != "." {
			if err := n.folder(dir); err != nil {
				return n, err
			}
		}
		var err error
		switch {
		case it.Folder && rel == "":
		case it.Folder:
			err = n.folder(rel)
		case it.Link != "":
			err = n.root.Symlink(it.Link, rel)
		case it.Source == "":
			err = s.copyKept(p.Path, it.From, n, rel)
		default:
			if wanted[it.Source] == nil {
				wanted[it.Source] = map[string][]target{}
			}
			wanted[it.Source][it.From] = append(wanted[it.Source][it.From], target{n, rel, it})
		}
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// bringBack copies what an earlier entry took away, and looks that it is that.
func (s *preparer) bringBack(p *plan.Part, fresh string) error {
	if err := copyTree(s.ctx, filepath.Join(s.ledger.home.keptDir(s.server), p.New), fresh); err != nil {
		return err
	}
	got, err := digestOf(s.ledger.digests, fresh)
	if err == nil && got != p.New {
		err = errors.New("what the ledger has kept of it is not what it was; it lies in " + s.ledger.home.keptDir(s.server))
	}
	return err
}

// copyKept copies a file of the present state of a part, which stays.
func (s *preparer) copyKept(path, from string, n *nest, rel string) error {
	dir, name := path, from
	if from == "" {
		dir, name = filepath.Dir(path), filepath.Base(path)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	info, err := root.Lstat(name)
	if err != nil {
		return err
	}
	s.progress(info.Size(), 1)
	return copyOne(root, name, n.root, rel, info)
}

func (s *preparer) progress(bytes int64, files int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at.Bytes, s.at.Files = s.at.Bytes+bytes, s.at.Files+files
	if s.fetch != nil && s.fetch.Progress != nil {
		s.fetch.Progress(s.at)
	}
}

// copy writes the files that come from one source.
func (s *preparer) copy(from Copier, files map[string][]target) error {
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
