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

	"github.com/klauspost/compress/zstd"

	"initium/internal/core/intake"
	"initium/internal/core/plan"
	"initium/internal/host/disk"
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
	_, homeDevice, err := disk.Room(l.home.Dir)
	if err != nil {
		return err
	}
	for i := range p.Parts {
		part := &p.Parts[i]
		if part.Old == plan.EmptyFolder {
			continue
		}
		if _, err := disk.Follow(filepath.Dir(part.Path), true); err != nil && !errors.Is(err, fs.ErrNotExist) {
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
		if part.Items == nil && part.New != "" && part.New != plan.EmptyFolder && !disk.Exists(filepath.Join(l.home.keptDir(server), part.New)) {
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
	_, device, err = disk.Room(dir)
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
		if free, _, err := disk.Room(n.dir); err == nil && free < n.bytes {
			return fmt.Errorf("there is too little room at %s: %s are needed, %s are free", n.dir, intake.Bytes(n.bytes), intake.Bytes(free))
		}
	}
	return nil
}

// prepare writes everything that comes beside its place.
func (s *preparer) prepare(parts []plan.Part) error {
	var nests []*disk.Nest
	defer func() {
		for _, n := range nests {
			n.Close()
		}
	}()
	places := map[string]*disk.Nest{}          // of parts, by where they go
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
			places[p.Path] = n
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
		if err := n.Give(); err != nil {
			return err
		}
	}
	if err := s.likeBackups(parts, places); err != nil {
		return err
	}
	return syncParts(parts)
}

// syncParts brings all that was written to the disk, each file system once.
func syncParts(parts []plan.Part) error {
	done := map[uint64]bool{}
	for n := range parts {
		dir := filepath.Dir(parts[n].Path)
		if _, device, err := disk.Room(dir); err != nil || !done[device] {
			if err := errors.Join(err, disk.SyncAll(dir)); err != nil {
				return err
			}
			done[device] = true
		}
	}
	return nil
}

// target is a file that is to be written.
type target struct {
	nest *disk.Nest
	rel  string // below what the nest holds open
	item plan.Item
}

// begin makes the folders of a part, and copies what is on this machine already.
func (s *preparer) begin(fresh string, p *plan.Part, wanted map[string]map[string][]target) (*disk.Nest, error) {
	if p.New == plan.EmptyFolder {
		return nil, disk.MakeFolder(p.Path)
	}
	if err := disk.MakeFolder(filepath.Dir(p.Path)); err != nil {
		return nil, err
	}
	if p.Items == nil {
		return nil, s.bringBack(p, fresh)
	}
	if p.From != "" {
		return nil, s.moved(p, fresh)
	}
	n, err := disk.OpenNest(fresh, !(len(p.Items) == 1 && p.Items[0].Rel == "" && !p.Items[0].Folder))
	if err != nil {
		return n, err
	}
	for _, it := range p.Items {
		rel := it.Rel
		if n.Root == n.At {
			rel = n.Name
		}
		if dir := filepath.Dir(rel); dir != "." {
			if err := n.Folder(dir); err != nil {
				return n, err
			}
		}
		var err error
		switch {
		case it.Folder && rel == "":
		case it.Folder:
			err = n.Folder(rel)
		case it.Link != "":
			err = n.Root.Symlink(it.Link, rel)
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
	if err := disk.CopyTree(s.ctx, filepath.Join(s.ledger.home.keptDir(s.server), p.New), fresh); err != nil {
		return err
	}
	got, err := disk.DigestOf(s.ledger.digests, fresh)
	if err == nil && got != p.New {
		err = errors.New("what the ledger has kept of it is not what it was; it lies in " + s.ledger.home.keptDir(s.server))
	}
	return err
}

// moved copies what another part of the plan takes away, with all rights, and looks that it is that.
func (s *preparer) moved(p *plan.Part, fresh string) error {
	if err := disk.CopyTree(s.ctx, p.From, fresh); err != nil {
		return err
	}
	got, err := disk.DigestOf(s.ledger.digests, fresh)
	if err == nil && got != p.New {
		err = fmt.Errorf("%w while it was moved", ErrStale)
	}
	files, bytes := p.Size()
	s.progress(bytes, files)
	return err
}

// copyKept copies a file of the present state of a part, which stays.
func (s *preparer) copyKept(path, from string, n *disk.Nest, rel string) error {
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
	return disk.CopyOne(root, name, n.Root, rel, info)
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
