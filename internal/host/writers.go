package host

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"sync"

	"initium/internal/host/disk"
)

// wholeFile is the size up to which a file is read as a whole and written beside
// the reading of the next, in bytes.
const wholeFile = 1 << 20

// writers write small files on several processors; large ones are written as they
// are read.
type writers struct {
	s       *preparer
	jobs    chan writeJob
	buffers sync.Pool
	wait    sync.WaitGroup
	buf     []byte

	mu     sync.Mutex
	failed error
}

type writeJob struct {
	targets []target
	data    []byte
}

func newWriters(s *preparer) *writers {
	w := &writers{s: s, jobs: make(chan writeJob, 4), buf: make([]byte, 1<<18),
		buffers: sync.Pool{New: func() any { b := make([]byte, wholeFile+1); return &b }}}
	for range runtime.GOMAXPROCS(0) {
		w.wait.Go(func() {
			buf := make([]byte, 1<<18)
			for j := range w.jobs {
				if w.err() == nil {
					w.fail(w.write(j.targets, bytes.NewReader(j.data), buf))
				}
				b := j.data[:cap(j.data)]
				w.buffers.Put(&b)
			}
		})
	}
	return w
}

func (w *writers) err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.failed
}

func (w *writers) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.failed == nil {
		w.failed = err
	}
}

// put writes one file of a source to where it is wanted. What goes wrong with a
// small one may be told with one of the next.
func (w *writers) put(targets []target, r io.Reader) error {
	if err := w.err(); err != nil {
		return err
	}
	if targets[0].item.Size > wholeFile {
		return w.write(targets, r, w.buf)
	}
	buf := *w.buffers.Get().(*[]byte)
	n := 0
	for n < len(buf) {
		got, err := r.Read(buf[n:])
		n += got
		if err == io.EOF {
			break
		}
		if err != nil {
			return fmt.Errorf("write %s: %w", targets[0].item.Rel, err)
		}
	}
	w.jobs <- writeJob{targets, buf[:n]}
	return nil
}

// end waits until all is written.
func (w *writers) end() error {
	close(w.jobs)
	w.wait.Wait()
	return w.err()
}

// write writes a file, and copies of it where links led to it.
func (w *writers) write(targets []target, r io.Reader, buf []byte) error {
	for i, t := range targets {
		if i == 0 {
			if err := w.s.write(t, r, buf); err != nil {
				return err
			}
			continue
		}
		first := targets[0]
		info, err := first.nest.Root.Lstat(first.rel)
		if err == nil {
			err = disk.CopyOne(first.nest.Root, first.rel, t.nest.Root, t.rel, info)
		}
		if err != nil {
			return err
		}
		w.s.progress(t.item.Size, 1)
	}
	return nil
}

// write writes one file and looks that its bytes are those that were looked at.
func (s *preparer) write(t target, r io.Reader, buf []byte) error {
	mode := fs.FileMode(0o644)
	if t.item.Exec {
		mode = 0o755
	}
	f, err := t.nest.Root.OpenFile(t.rel, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	h := sha256.New()
	var size int64
	for err == nil {
		var n int
		n, err = r.Read(buf)
		h.Write(buf[:n])
		size += int64(n)
		if _, werr := f.Write(buf[:n]); werr != nil {
			err = werr
		} else if size > t.item.Size {
			err = errOther
		} else if s.ctx.Err() != nil {
			err = s.ctx.Err()
		}
		s.progress(int64(n), 0)
	}
	if err == io.EOF {
		err = nil
		if [32]byte(h.Sum(nil)) != t.item.Sum {
			err = errOther
		}
	}
	if err == nil && t.nest.Uid >= 0 {
		err = f.Chown(t.nest.Uid, t.nest.Gid)
	}
	s.progress(0, 1)
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("write %s: %w", t.item.Rel, err)
	}
	return nil
}
