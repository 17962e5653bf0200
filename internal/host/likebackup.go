package host

import (
	"archive/tar"
	"bufio"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"initium/internal/core/plan"
	"initium/internal/host/disk"
)

// likeBackups gives what comes from a backup of the server the rights, owners, times and
// hard links that it had. places are where the parts wait, by where they go.
func (s *preparer) likeBackups(parts []plan.Part, places map[string]*disk.Nest) error {
	sources := map[string]bool{}
	for i := range parts {
		for _, it := range parts[i].Items {
			if strings.HasPrefix(it.Source, s.ledger.home.backupDir(s.server)+"/") {
				sources[it.Source] = true
			}
		}
	}
	if len(sources) == 0 {
		return nil
	}
	list, err := s.ledger.home.Backups(s.server)
	if err != nil {
		return err
	}
	for i := range list {
		if sources[list[i].File] {
			if err := likeBackup(&list[i], places); err != nil {
				return err
			}
		}
	}
	return nil
}

// likes is what a folder is to be like once all is in it.
type likes struct {
	in   *os.Root
	name string
	head *tar.Header
}

func likeBackup(b *Backup, places map[string]*disk.Nest) error {
	f, err := os.Open(b.File)
	if err != nil {
		return err
	}
	defer f.Close()
	unpacked, err := zstd.NewReader(bufio.NewReaderSize(f, 1<<17))
	if err != nil {
		return err
	}
	defer unpacked.Close()
	var folders []likes
	for r := tar.NewReader(unpacked); ; {
		head, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		in, name := placeIn(b, places, strings.TrimSuffix(head.Name, "/"))
		if in == nil {
			continue
		}
		switch head.Typeflag {
		case tar.TypeDir:
			folders = append(folders, likes{in, name, head})
		case tar.TypeSymlink:
			err = bearable(in.Lchown(name, head.Uid, head.Gid))
		case tar.TypeLink:
			if first, at := placeIn(b, places, head.Linkname); first == in {
				err = errors.Join(in.Remove(name), in.Link(at, name))
			}
		case tar.TypeReg:
			err = likeHead(in, name, head)
		}
		if err != nil {
			return err
		}
	}
	for _, l := range slices.Backward(folders) { // what is in one changes when it was changed
		if err := likeHead(l.in, l.name, l.head); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// placeIn is where something in a backup waits; nil for what does not come.
func placeIn(b *Backup, places map[string]*disk.Nest, inside string) (in *os.Root, name string) {
	for _, root := range b.Roots {
		rel, below := strings.CutPrefix(inside, root.Name+"/")
		n := places[root.Path]
		switch {
		case n == nil || !below && inside != root.Name:
			continue
		case below:
			return n.Root, filepath.FromSlash(rel)
		case n.Root == n.At:
			return n.At, n.Name
		}
		return n.Root, "."
	}
	return nil, ""
}

// attributeRecord is what begins the names of extended attributes in the records of an
// archive, as tar programs write them.
const attributeRecord = "SCHILY.xattr."

func likeHead(in *os.Root, name string, head *tar.Header) error {
	uid, gid := head.Uid, head.Gid
	if os.Getuid() != 0 {
		uid, gid = os.Getuid(), os.Getgid() // only root can give things away
	}
	changed := head.ModTime
	if changed.IsZero() {
		changed = time.Now()
	}
	attributes := disk.Attributes{}
	for record, value := range head.PAXRecords {
		if attribute, ok := strings.CutPrefix(record, attributeRecord); ok {
			attributes[attribute] = []byte(value)
		}
	}
	return disk.Like(in, name, head.FileInfo().Mode(), uid, gid, changed, attributes)
}

// bearable is an error, unless it is that somebody who is not root cannot give things away.
func bearable(err error) error {
	if os.Getuid() != 0 && errors.Is(err, fs.ErrPermission) {
		return nil
	}
	return err
}
