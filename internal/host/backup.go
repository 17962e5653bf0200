package host

import (
	"archive/tar"
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/klauspost/compress/zstd"

	"initium/internal/core/plan"
	"initium/internal/host/disk"
)

// Backup is a backup of a server's world: a tar archive packed with zstd, and
// what is known about it.
type Backup struct {
	Number int       `json:"backup"`
	At     time.Time `json:"at"`
	Why    string    `json:"why,omitempty"`
	File   string    `json:"file"`
	Files  int       `json:"files"`
	Bytes  int64     `json:"bytes"`  // of the world
	Packed int64     `json:"packed"` // of the backup
	Roots  []Root    `json:"roots"`

	Owners map[int]int `json:"owners,omitempty"` // how many files and folders belong to which user
}

// Others are how many files and folders of a backup belong to other users than this one,
// who cannot give them back to those because he is not root.
func (b *Backup) Others() (n int) {
	if os.Getuid() == 0 {
		return 0
	}
	for uid, count := range b.Owners {
		if uid != os.Getuid() {
			n += count
		}
	}
	return n
}

// Root is a file or folder of the world, and its name in the backup.
type Root struct {
	Path string `json:"path"`
	Name string `json:"name"`
}

func (h Home) backupDir(server string) string { return filepath.Join(h.serverDir(server), "backups") }

func (h Home) backupFile(server string, number int) string {
	return filepath.Join(h.backupDir(server), fmt.Sprintf("%04d.tar.zst", number))
}

// Backups lists the backups of a server, oldest first.
func (h Home) Backups(server string) (list []Backup, err error) {
	entries, err := os.ReadDir(h.backupDir(server))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range entries {
		if filepath.Ext(e.Name()) != ".json" {
			continue
		}
		var b Backup
		if err := readJSON(filepath.Join(h.backupDir(server), e.Name()), &b); err != nil {
			return nil, err
		}
		list = append(list, b)
	}
	return list, nil
}

// DropBackup takes a backup away: what is known of it goes first, so that one in part is listed nowhere.
func (h Home) DropBackup(server string, number int) error {
	file := h.backupFile(server, number)
	if err := os.Remove(strings.TrimSuffix(file, ".tar.zst") + ".json"); err != nil {
		return fmt.Errorf("drop backup %d: %w", number, err)
	}
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("drop backup %d: %w", number, err)
	}
	return nil
}

// errSpecialWorld refuses what an archive cannot hold.
var errSpecialWorld = errors.New("is a device, a pipe or a socket")

// WriteBackup writes a backup of files and folders, and then reads it again, to
// see that every byte is in it. dir is the server's folder, from which names in
// the backup are seen.
func (h Home) WriteBackup(ctx context.Context, server, dir, why string, paths []string, progress func(Progress)) (b Backup, err error) {
	list, err := h.Backups(server)
	if err != nil {
		return b, err
	}
	b = Backup{Number: 1, At: time.Now().UTC().Truncate(time.Second), Why: why, Owners: map[int]int{}}
	if n := len(list); n > 0 {
		b.Number = list[n-1].Number + 1
	}
	for i, p := range paths {
		name, ok := strings.CutPrefix(p, dir+"/")
		if !ok {
			name = filepath.Join("outside", strconv.Itoa(i), filepath.Base(p))
		}
		b.Roots = append(b.Roots, Root{p, name})
	}
	if err := os.MkdirAll(h.backupDir(server), 0o700); err != nil {
		return b, err
	}
	b.File = h.backupFile(server, b.Number)
	beside := b.File + ".part"
	defer os.Remove(beside)
	sums, err := writeArchive(ctx, beside, &b, progress)
	if err != nil {
		return b, fmt.Errorf("write the backup: %w; no backup was made", err)
	}
	if err := verifyArchive(ctx, beside, sums); err != nil {
		return b, fmt.Errorf("read the backup again: %w; no backup was made", err)
	}
	info, err := os.Stat(beside)
	if err != nil {
		return b, err
	}
	b.Packed = info.Size()
	if err := os.Rename(beside, b.File); err != nil {
		return b, err
	}
	if err := disk.SyncDir(filepath.Dir(b.File)); err != nil {
		return b, err
	}
	if err := writeJSON(strings.TrimSuffix(b.File, ".tar.zst")+".json", b); err != nil {
		return b, err
	}
	return b, disk.SyncDir(filepath.Dir(b.File)) // a backup that is not listed after a power cut is none
}

type sums map[string][32]byte

func writeArchive(ctx context.Context, name string, b *Backup, progress func(Progress)) (all sums, err error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	packer, err := zstd.NewWriter(f)
	if err != nil {
		return nil, err
	}
	w := tar.NewWriter(packer)
	all = sums{}
	linked := map[[2]uint64]string{} // files with several names, by device and number
	for _, root := range b.Roots {
		err := filepath.WalkDir(root.Path, func(full string, e fs.DirEntry, err error) error {
			if err = errors.Join(err, ctx.Err()); err != nil {
				return err
			}
			rel := strings.TrimPrefix(strings.TrimPrefix(full, root.Path), "/")
			inside := filepath.Join(root.Name, rel)
			if err := addToArchive(w, full, inside, all, linked); err != nil {
				return fmt.Errorf("%s: %w", full, err)
			}
			if info, err := e.Info(); err == nil {
				if sys, ok := info.Sys().(*syscall.Stat_t); ok {
					b.Owners[int(sys.Uid)]++
				}
				if info.Mode().IsRegular() {
					b.Files++
					b.Bytes += info.Size()
				}
			}
			if progress != nil {
				progress(Progress{Files: b.Files, Bytes: b.Bytes})
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return all, errors.Join(w.Close(), packer.Close(), f.Sync())
}

// addToArchive adds one file, folder or link, with its rights, owner and times; a further
// name of a file that is in the archive already as that.
func addToArchive(w *tar.Writer, full, inside string, all sums, linked map[[2]uint64]string) error {
	info, err := os.Lstat(full)
	if err != nil {
		return err
	}
	target := ""
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if target, err = os.Readlink(full); err != nil {
			return err
		}
	case !info.IsDir() && !info.Mode().IsRegular():
		return errSpecialWorld
	}
	head, err := tar.FileInfoHeader(info, target)
	if err != nil {
		return err
	}
	head.Name, head.Format = inside, tar.FormatPAX // times in full
	if info.IsDir() {
		head.Name += "/"
	}
	if sys, ok := info.Sys().(*syscall.Stat_t); ok && info.Mode().IsRegular() && sys.Nlink > 1 {
		file := [2]uint64{uint64(sys.Dev), sys.Ino}
		if first, known := linked[file]; known {
			head.Typeflag, head.Linkname, head.Size = tar.TypeLink, first, 0
			return w.WriteHeader(head)
		}
		linked[file] = inside
	}
	if target != "" {
		return w.WriteHeader(head)
	}
	f, err := os.Open(full)
	if err != nil {
		return err
	}
	defer f.Close()
	attributes, err := disk.AttributesOf(f)
	if err != nil {
		return err
	}
	for name, value := range attributes {
		if head.PAXRecords == nil {
			head.PAXRecords = map[string]string{}
		}
		head.PAXRecords[attributeRecord+name] = string(value)
	}
	if err := w.WriteHeader(head); err != nil || info.IsDir() {
		return err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(w, h), io.LimitReader(f, info.Size()))
	if err == nil && n != info.Size() {
		err = errors.New("has become shorter while it was read; stop the server first")
	}
	all[inside] = [32]byte(h.Sum(nil))
	return err
}

// verifyArchive reads a backup through and compares every file.
func verifyArchive(ctx context.Context, name string, all sums) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	unpacked, err := zstd.NewReader(bufio.NewReaderSize(f, 1<<17))
	if err != nil {
		return err
	}
	defer unpacked.Close()
	r := tar.NewReader(unpacked)
	seen := 0
	for {
		head, err := r.Next()
		if err == io.EOF {
			break
		}
		if err = errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		if head.Typeflag != tar.TypeReg {
			continue
		}
		h := sha256.New()
		if _, err := io.Copy(h, r); err != nil {
			return err
		}
		if want, ok := all[head.Name]; !ok || want != [32]byte(h.Sum(nil)) {
			return fmt.Errorf("%s is not as it was written", head.Name)
		}
		seen++
	}
	if seen != len(all) {
		return fmt.Errorf("%d of %d files are missing", len(all)-seen, len(all))
	}
	return nil
}

// itemsOf are the items of a backup that belong to one of its roots, by the names that they
// have in it; where there are none, the root is an empty folder.
func itemsOf(root string, items []plan.Item) (coming []plan.Item) {
	for _, it := range items {
		name := it.Rel
		if rel, ok := strings.CutPrefix(name, root+"/"); ok {
			it.Rel = rel
			coming = append(coming, it)
		} else if name == root && !it.Folder {
			it.Rel = ""
			coming = append(coming, it)
		}
	}
	if len(coming) == 0 {
		coming = []plan.Item{{Folder: true}}
	}
	return coming
}

// RestoreParts are the parts of a plan that puts a world back: what is in the
// backup comes, and what the world has besides goes into the ledger's keeping.
// items are what is in the backup, by their names in it; now is what the world
// has, path by path.
func (b *Backup) RestoreParts(items []plan.Item, now []string, c *disk.Digests) (parts []plan.Part, err error) {
	done := map[string]bool{}
	add := func(path string, coming []plan.Item) error {
		done[path] = true
		there, err := c.List(path)
		if err != nil {
			return err
		}
		p := plan.Part{Path: path, What: "the world", Items: coming}
		if len(there) > 0 {
			p.Old = plan.Digest(there)
		}
		if len(coming) > 0 {
			p.New = plan.Digest(coming)
		}
		if n := b.Others(); n > 0 && len(coming) > 0 {
			p.Notes = append(p.Notes, plan.Change{Kind: plan.FileGiven, Why: fmt.Sprintf("files and folders of other users in the backup: %d; only root can give them back to those", n)})
		}
		if p.Old != p.New {
			parts = append(parts, p)
		}
		return nil
	}
	for _, root := range b.Roots {
		if err := add(root.Path, itemsOf(root.Name, items)); err != nil {
			return nil, err
		}
	}
	for _, path := range now {
		if !done[path] {
			if err := add(path, nil); err != nil {
				return nil, err
			}
		}
	}
	return parts, nil
}
