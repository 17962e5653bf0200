// Package archive reads what operators get hold of: archives of the usual kinds,
// folders and single files. It distrusts all of them. Nothing is ever unpacked
// here; entries are handed out as streams, and refused where their names or sizes
// are none that intake takes.
package archive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
)

// Options say how a source is read.
type Options struct {
	Bounds   intake.Bounds
	Dialects []*dialect.Dialect // that it may be for: what of it is worth keeping in memory
	Progress func(read int64)   // called now and then with the bytes read so far; may be nil
}

// Source is something to be taken in.
type Source struct {
	Path string // absolute
	Form Form
	Size int64 // of the file, in bytes; 0 for a folder

	opts   Options
	stamp  stamp
	keep   func(name string, size int64) bool
	packed func(name string) bool
}

// Form is what a source is, told by its content.
type Form string

// The forms of sources.
const (
	FormFolder Form = "folder"
	FormFile   Form = "file"
	FormZip    Form = "zip"
	Form7z     Form = "7z"
	FormRar    Form = "rar"
	FormTar    Form = "tar"
	FormGzip   Form = "tar.gz"
	FormBzip2  Form = "tar.bz2"
	FormXz     Form = "tar.xz"
	FormZstd   Form = "tar.zst"
)

// stamp tells whether a file is still the one that was looked at.
type stamp struct {
	dev, ino uint64
	size     int64
	changed  int64
}

func stampOf(info fs.FileInfo) stamp {
	s := stamp{size: info.Size()}
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		s.dev, s.ino, s.changed = uint64(sys.Dev), sys.Ino, sys.Ctim.Nano()
	}
	return s
}

// stampOfAll tells whether anything in a folder has changed.
func stampOfAll(dir string) (all stamp, err error) {
	h := fnv.New64a()
	err = filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err == nil {
			fmt.Fprintln(h, name, stampOf(info))
			all.size++
		}
		return err
	})
	all.ino = h.Sum64()
	return all, err
}

var errChanged = errors.New("it has changed while it was read; try again when it is whole")

// Open finds out what a source is. The error says what it is when it is nothing
// that can be taken in.
func Open(name string, opts Options) (*Source, error) {
	full, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(full)
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", name, errors.Unwrap(err))
	}
	s := &Source{Path: full, opts: opts, stamp: stampOf(info), keep: intake.Interesting(opts.Dialects), packed: intake.PackedForms(opts.Dialects)}
	switch {
	case info.IsDir():
		s.Form = FormFolder
		s.stamp, err = stampOfAll(full)
		return s, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("look into %s: it is neither a file nor a folder", name)
	}
	s.Size = info.Size()
	if s.packed(full) {
		s.Form = FormFile
		return s, nil
	}
	f, err := os.Open(full)
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", name, errors.Unwrap(err))
	}
	defer f.Close()
	s.Form = identify(f)
	return s, nil
}

// identify tells the form of a file by its first bytes, never by its name.
func identify(r io.ReaderAt) Form {
	head := make([]byte, 512)
	n, _ := r.ReadAt(head, 0)
	head = head[:n]
	for _, form := range []struct {
		magic string
		form  Form
	}{{"PK\x03\x04", FormZip}, {"PK\x05\x06", FormZip}, {"7z\xbc\xaf\x27\x1c", Form7z}, {"Rar!\x1a\x07", FormRar},
		{"\x1f\x8b", FormGzip}, {"BZh", FormBzip2}, {"\xfd7zXZ\x00", FormXz}, {"\x28\xb5\x2f\xfd", FormZstd}} {
		if bytes.HasPrefix(head, []byte(form.magic)) {
			return form.form
		}
	}
	if isTar(head) {
		return FormTar
	}
	return FormFile
}

// isTar tells a tar header block: by its magic word, or by its checksum.
func isTar(block []byte) bool {
	if len(block) < 512 {
		return false
	}
	if string(block[257:262]) == "ustar" {
		return true
	}
	sum, want := int64(0), int64(0)
	for i, b := range block {
		switch {
		case i >= 148 && i < 156:
			sum += ' '
			if b >= '0' && b <= '7' {
				want = want*8 + int64(b-'0')
			}
		default:
			sum += int64(b)
		}
	}
	return want == sum && block[0] != 0
}

// head is an entry as an archive tells of it.
type head struct {
	name   string
	kind   intake.Kind
	size   int64 // as it is said to be; -1 when it is not
	exec   bool
	target string
	time   time.Time
}

// visitor is called for each entry in the order of the source. open returns its
// bytes, which can be read until visitor returns.
type visitor func(h head, open func() (io.Reader, error)) error

// walk goes through the entries of the source.
func (s *Source) walk(ctx context.Context, visit visitor) error {
	checked := func(h head, open func() (io.Reader, error)) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return visit(h, open)
	}
	if s.Form == FormFolder {
		return s.walkFolder(checked)
	}
	f, err := os.Open(s.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if stampOf(info) != s.stamp {
		return errChanged
	}
	if s.Form == FormFile {
		err = checked(head{name: filepath.Base(s.Path), size: info.Size(), exec: info.Mode()&0o111 != 0, time: info.ModTime()}, func() (io.Reader, error) { return f, nil })
	} else {
		err = walkArchive(s.Form, f, info.Size(), s.opts.Bounds, checked)
	}
	if err != nil {
		return err
	}
	if info, err = os.Stat(s.Path); err != nil || stampOf(info) != s.stamp {
		return errChanged
	}
	return nil
}

// walkArchive goes through the entries of an archive. The packages that read the
// formats are guarded: what makes them give up altogether is a damaged archive.
func walkArchive(form Form, r io.ReaderAt, size int64, bounds intake.Bounds, visit visitor) (err error) {
	var own error // what visit says
	guarded := func(h head, open func() (io.Reader, error)) error {
		own = visit(h, open)
		return own
	}
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the archive is damaged (%v)", p)
		}
		if own != nil {
			err = own
		}
	}()
	switch form {
	case FormZip:
		err = walkZip(r, size, bounds, guarded)
	case Form7z:
		err = walk7z(r, size, bounds, guarded)
	case FormRar:
		err = walkRar(io.NewSectionReader(r, 0, size), guarded)
	default:
		err = walkTar(form, io.NewSectionReader(r, 0, size), guarded)
	}
	if own != nil {
		return own
	}
	return err
}

// Same tells whether another source is the same file or folder, unchanged.
func (s *Source) Same(other *Source) bool {
	return s.Path == other.Path && s.stamp == other.stamp
}

// Misnamed is the suffix of an archive whose content is of another form; "" when
// the two agree.
func (s *Source) Misnamed() string {
	lower := strings.ToLower(s.Path)
	suffixes := map[Form][]string{
		FormZip: {".zip"}, Form7z: {".7z"}, FormRar: {".rar"}, FormTar: {".tar"}, FormGzip: {".gz", ".tgz"},
		FormBzip2: {".bz2", ".tbz", ".tbz2"}, FormXz: {".xz", ".txz"}, FormZstd: {".zst", ".tzst"},
	}
	for form, list := range suffixes {
		for _, suffix := range list {
			if strings.HasSuffix(lower, suffix) && form != s.Form && s.Form != FormFolder {
				return suffix
			}
		}
	}
	return ""
}
