package archive

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"initium/internal/core/intake"
	"initium/internal/core/text"
)

func clean(s string) string { return text.Clean(s) }

// reader gathers a tree from a source.
type reader struct {
	s     *Source
	bytes int64 // unpacked so far, nested archives too
	kept  int64 // of them in memory
	count int
	buf   []byte
	hash  hash.Hash
}

// Read looks at every entry of the source, without writing anything, and returns
// what is in it. Each byte is read once, for damage shows only then.
func (s *Source) Read(ctx context.Context) (*intake.Tree, error) {
	r := &reader{s: s, buf: make([]byte, 1<<17), hash: sha256.New()}
	return r.tree(ctx, s.walk, s.Size, 0)
}

type walker func(ctx context.Context, visit visitor) error

// tree reads one archive; packed is its size, 0 for a folder.
func (r *reader) tree(ctx context.Context, walk walker, packed int64, depth int) (*intake.Tree, error) {
	b := intake.NewBuilder(r.s.opts.Bounds)
	all := newSums()
	err := walk(ctx, func(h head, open func() (io.Reader, error)) error {
		if h.name == "" && h.kind == intake.File {
			h.name = r.s.soleName()
		}
		name, err := b.Reserve(h.name, h.kind)
		if err != nil || name == "" {
			return err
		}
		r.count++
		if err := r.s.opts.Bounds.CheckCount(r.count); err != nil {
			return err
		}
		e := intake.Entry{Path: name, Kind: h.kind, Exec: h.exec, Target: h.target, Changed: h.time}
		if h.kind == intake.File {
			if err := r.s.opts.Bounds.CheckSize(r.bytes+max(h.size, 0), 0); err != nil {
				return err
			}
			stream, err := open()
			if err != nil {
				return fmt.Errorf("%q in it cannot be read: %w", clean(name), reason(err))
			}
			whole, rest, err := r.small(&e, h, stream, packed, depth, all)
			if err != nil {
				return err
			}
			if whole != nil {
				all.later(b.Len(), whole)
			} else if err := r.file(ctx, &e, h, rest, packed, depth); err != nil {
				return err
			}
		}
		return b.Add(e)
	})
	if err != nil {
		all.stop()
		return nil, err
	}
	all.into(b)
	return b.Tree()
}

// small reads a file as a whole, when it is small and nothing but its sum is
// wanted; else rest is what has to be read the long way.
func (r *reader) small(e *intake.Entry, h head, stream io.Reader, packed int64, depth int, all *sums) (whole []byte, rest io.Reader, err error) {
	if h.size > wholeFile || r.s.packed(e.Path) || depth == 0 && isNested(e.Path) || r.s.keep(e.Path, max(h.size, 0)) {
		return nil, stream, nil
	}
	buf := *all.buffers.Get().(*[]byte)
	n := 0
	for err == nil && n < len(buf) { // io.ReadFull would hold a stream that breaks off for one that ends
		var got int
		got, err = stream.Read(buf[n:])
		n += got
	}
	switch err {
	case nil:
		return nil, io.MultiReader(bytes.NewReader(buf), stream), nil
	case io.EOF:
	default:
		return nil, nil, unreadable(e.Path, err)
	}
	e.Size = int64(n)
	if err := r.grown(e, h, int64(n), packed); err != nil {
		return nil, nil, err
	}
	return buf[:n], nil, r.complete(e, h)
}

func unreadable(name string, err error) error {
	return fmt.Errorf("%q in it cannot be read: %w", clean(name), damaged(reason(err)))
}

// grown notes that n more bytes were unpacked, and refuses too many.
func (r *reader) grown(e *intake.Entry, h head, n, packed int64) error {
	r.bytes += n
	if err := r.s.opts.Bounds.CheckSize(r.bytes, packed); err != nil {
		return err
	}
	if h.size >= 0 && e.Size > h.size {
		return fmt.Errorf("%q in it has more bytes than the archive says", clean(e.Path))
	}
	return nil
}

// complete looks that a file has as many bytes as the archive says.
func (r *reader) complete(e *intake.Entry, h head) error {
	if r.s.opts.Progress != nil {
		r.s.opts.Progress(r.bytes)
	}
	if h.size >= 0 && e.Size != h.size {
		return fmt.Errorf("%q in it has fewer bytes than the archive says", clean(e.Path))
	}
	return nil
}

// soleName is the name of a file that was packed alone.
func (s *Source) soleName() string {
	base := filepath.Base(s.Path)
	return strings.TrimSuffix(base, filepath.Ext(base))
}

// reason takes from an error what only says which function failed.
func reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// file reads one file through: its size, its sum, and its bytes if they are worth
// keeping.
func (r *reader) file(ctx context.Context, e *intake.Entry, h head, stream io.Reader, packed int64, depth int) error {
	var kept *bytes.Buffer
	var spooled *spool
	switch {
	case r.s.packed(e.Path) || depth == 0 && isNested(e.Path):
		spooled = &spool{}
		defer spooled.Close()
	case r.s.keep(e.Path, max(h.size, 0)):
		kept = new(bytes.Buffer)
	}
	r.hash.Reset()
	err := r.through(ctx, e, h, stream, packed, func(b []byte) error {
		if kept != nil && e.Size <= maxKept {
			kept.Write(b)
		}
		if spooled == nil {
			return nil
		}
		_, err := spooled.Write(b)
		return err
	})
	if err != nil {
		return err
	}
	r.hash.Sum(e.Sum[:0])
	if kept != nil && e.Size <= maxKept {
		e.Data = append([]byte{}, kept.Bytes()...)
		if err := r.remember(len(e.Data)); err != nil {
			return err
		}
	}
	if spooled == nil {
		return nil
	}
	return r.inside(ctx, e, spooled)
}

// through reads a file to its end, which has to be where the archive says, and hands out
// its bytes; their sum is in r.hash.
func (r *reader) through(ctx context.Context, e *intake.Entry, h head, stream io.Reader, packed int64, take func([]byte) error) error {
	for {
		n, err := stream.Read(r.buf)
		e.Size += int64(n)
		if err := r.grown(e, h, int64(n), packed); err != nil {
			return err
		}
		r.hash.Write(r.buf[:n])
		if err := take(r.buf[:n]); err != nil {
			return fmt.Errorf("look into %q: %w", clean(e.Path), err)
		}
		if err == io.EOF {
			return r.complete(e, h)
		}
		if err != nil {
			return unreadable(e.Path, err)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// Bounds of what is kept in memory, in bytes: of one file, and of all.
const (
	maxKept    = 1 << 20
	maxAllKept = 256 << 20
)

// remember counts what is kept in memory.
func (r *reader) remember(n int) error {
	if r.kept += int64(n); r.kept > maxAllKept {
		return intake.BoundError{Why: fmt.Sprintf("its manifests and readmes alone have more than %s", intake.Bytes(maxAllKept))}
	}
	return nil
}

// isNested tells by its name whether a file is likely to be an archive.
func isNested(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".zip", ".7z", ".rar", ".tar", ".tgz", ".tbz", ".tbz2", ".txz", ".tzst":
		return true
	}
	stem := strings.TrimSuffix(name, path.Ext(name))
	return strings.EqualFold(path.Ext(stem), ".tar")
}

// inside looks into a packed mod, or into an archive within the archive. What
// cannot be read there is a file like any other; what grows beyond the bounds is
// an error.
func (r *reader) inside(ctx context.Context, e *intake.Entry, spooled *spool) error {
	if r.s.packed(e.Path) {
		if checkDirectory(spooled, e.Size, r.s.opts.Bounds) != nil {
			return nil // no archive that could be read; the survey will say so
		}
		e.Data = intake.Essence(spooled, e.Size, r.s.opts.Dialects)
		return r.remember(len(e.Data))
	}
	form := identify(spooled)
	if form == FormFile {
		return nil
	}
	tree, err := r.tree(ctx, func(_ context.Context, visit visitor) error {
		return walkArchive(form, spooled, e.Size, r.s.opts.Bounds, visit)
	}, e.Size, 1)
	var bound intake.BoundError
	if errors.As(err, &bound) || ctx.Err() != nil {
		return fmt.Errorf("in %q: %w", clean(e.Path), err)
	}
	if err != nil {
		e.Trouble = err.Error()
		return nil
	}
	e.Inside = tree
	return nil
}

// spool keeps bytes that have to be read in any order: the first of them in
// memory, and what is more in a file without a name.
type spool struct {
	mem  []byte
	file *os.File
}

// maxSpooled is how much a spool keeps in memory, in bytes.
const maxSpooled = 8 << 20

func (s *spool) Write(b []byte) (int, error) {
	if s.file == nil && len(s.mem)+len(b) <= maxSpooled {
		s.mem = append(s.mem, b...)
		return len(b), nil
	}
	if s.file == nil {
		f, err := os.CreateTemp("", "initium-")
		if err != nil {
			return 0, err
		}
		os.Remove(f.Name()) // it goes when it is closed, or when the program is killed
		s.file = f
		if _, err := f.Write(s.mem); err != nil {
			return 0, err
		}
		s.mem = nil
	}
	return s.file.Write(b)
}

func (s *spool) ReadAt(b []byte, at int64) (int, error) {
	if s.file != nil {
		return s.file.ReadAt(b, at)
	}
	if at >= int64(len(s.mem)) {
		return 0, io.EOF
	}
	n := copy(b, s.mem[at:])
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

func (s *spool) Close() error {
	if s.file != nil {
		return s.file.Close()
	}
	return nil
}

// Copy reads the source once more and hands out the files that are wanted, by
// their paths in the tree; those of an archive within the archive have its path
// before theirs.
func (s *Source) Copy(ctx context.Context, wanted func(name string) bool, put func(name string, r io.Reader) error) error {
	return s.copy(ctx, s.walk, "", wanted, put)
}

func (s *Source) copy(ctx context.Context, walk walker, prefix string, wanted func(string) bool, put func(string, io.Reader) error) error {
	return walk(ctx, func(h head, open func() (io.Reader, error)) error {
		if h.kind != intake.File {
			return nil
		}
		if h.name == "" {
			h.name = s.soleName()
		}
		name, err := intake.EntryPath(h.name)
		if err != nil || name == "" {
			return err
		}
		full := name
		if prefix != "" {
			full = prefix + "/" + name
		}
		inner := prefix == "" && isNested(name) && wanted(full+"/")
		if !inner && !wanted(full) {
			return nil
		}
		stream, err := open()
		if err != nil {
			return fmt.Errorf("%q in it cannot be read: %w", clean(full), reason(err))
		}
		if wanted(full) {
			return put(full, stream)
		}
		spooled := &spool{}
		defer spooled.Close()
		size, err := io.Copy(spooled, stream)
		if err != nil {
			return err
		}
		return s.copy(ctx, func(_ context.Context, visit visitor) error {
			return walkArchive(identify(spooled), spooled, size, s.opts.Bounds, visit)
		}, full, wanted, put)
	})
}
