package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
)

// tail follows the files that a server writes its log into. What they held before
// the start is passed over; a file that is cut off is read from its beginning, and
// one that is moved away and begun anew is first read to its end.
type tail struct {
	files   []*tailed
	watcher *fsnotify.Watcher
	stop    chan struct{}
	stopped chan struct{}
}

type tailed struct {
	name string
	file *os.File
	at   int64
	seen []byte // the last bytes before at, as they were read
	out  sink
}

// fingerprint is how many bytes tell whether a file is still the one that was read: one
// may be cut off and have grown again before anybody looks.
const fingerprint = 128

// anew tells whether the file was begun anew since it was read last.
func (f *tailed) anew() bool {
	info, err := f.file.Stat()
	if err != nil || info.Size() < f.at {
		return err == nil
	}
	now := make([]byte, len(f.seen))
	if _, err := f.file.ReadAt(now, f.at-int64(len(now))); err != nil {
		return false
	}
	return !bytes.Equal(now, f.seen)
}

// sink takes what is new in a file.
type sink interface {
	write(p []byte)
	end() // what comes next does not go on with it
}

// FollowFile reads a file from its beginning as it grows, through being cut off and
// begun anew, until ctx ends. A file that is not there yet is waited for.
// turned is called when what comes next does not go on with what came before.
func FollowFile(ctx context.Context, name string, feed func([]byte), turned func()) error {
	f := &tailed{name: name, out: fed{feed, turned}}
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	if err := w.Add(filepath.Dir(name)); err != nil {
		return fmt.Errorf("follow %s: %w", name, err)
	}
	ticker := time.NewTicker(tailEvery)
	defer ticker.Stop()
	for f.read(); ; f.read() {
		select {
		case <-ctx.Done():
			if f.file != nil {
				f.file.Close()
			}
			return nil
		case <-w.Events:
		case <-w.Errors:
		case <-ticker.C:
		}
	}
}

// fed is a sink that hands on.
type fed struct {
	feed   func([]byte)
	turned func()
}

func (f fed) write(p []byte) { f.feed(p) }
func (f fed) end()           { f.turned() }

// tailEvery is how often files are looked at when nothing tells of a change: there
// are file systems that do not.
const tailEvery = time.Second

// newTail looks at the files before the server is started. Those of no name need
// not be there, nor do their folders.
func newTail(names []string) (*tail, error) {
	t := &tail{stop: make(chan struct{}), stopped: make(chan struct{})}
	for _, name := range names {
		f := &tailed{name: name}
		if file, err := openPlain(name); err == nil {
			if f.at, err = file.Seek(0, io.SeekEnd); err != nil {
				return nil, err
			}
			f.file = file
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		t.files = append(t.files, f)
	}
	return t, nil
}

// begin follows the files until end is called.
func (t *tail) begin(book *logbook) {
	if len(t.files) == 0 {
		close(t.stopped)
		return
	}
	var events chan fsnotify.Event
	if w, err := fsnotify.NewWatcher(); err == nil {
		t.watcher, events = w, w.Events
		for _, f := range t.files {
			w.Add(filepath.Dir(f.name)) // a folder that comes later is looked at in turn
		}
	}
	for _, f := range t.files {
		f.out = book.source(true)
	}
	go func() {
		defer close(t.stopped)
		ticker := time.NewTicker(tailEvery)
		defer ticker.Stop()
		for {
			select {
			case <-events:
			case <-ticker.C:
			case <-t.stop:
				t.read()
				return
			}
			t.read()
		}
	}()
}

// end reads what is left and closes the files.
func (t *tail) end() {
	close(t.stop)
	<-t.stopped
	for _, f := range t.files {
		f.out.end()
		if f.file != nil {
			f.file.Close()
		}
	}
	if t.watcher != nil {
		t.watcher.Close()
	}
}

func (t *tail) read() {
	for _, f := range t.files {
		f.read()
	}
}

func (f *tailed) read() {
	f.rest()
	now, err := os.Stat(f.name)
	if err != nil {
		return // it is being moved away, or was never there
	}
	if f.file != nil {
		if own, err := f.file.Stat(); err == nil && os.SameFile(own, now) {
			return
		}
		f.rest() // what was written between the two looks
		f.out.end()
		f.file.Close()
	}
	file, err := openPlain(f.name)
	if err != nil {
		f.file = nil
		return
	}
	f.file, f.at, f.seen = file, 0, f.seen[:0]
	f.rest()
}

// openPlain opens a file that is one, and no pipe that nobody may ever write into.
func openPlain(name string) (*os.File, error) {
	file, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		file.Close()
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return file, nil
}

// rest hands on what is new in the file that is open.
func (f *tailed) rest() {
	if f.file == nil {
		return
	}
	if f.anew() {
		f.out.end()
		f.at, f.seen = 0, f.seen[:0]
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := f.file.ReadAt(buf, f.at)
		f.at += int64(n)
		if n > 0 {
			f.seen = append(f.seen, buf[max(n-fingerprint, 0):n]...)
			f.seen = append(f.seen[:0], f.seen[max(len(f.seen)-fingerprint, 0):]...)
			f.out.write(buf[:n])
		}
		if err != nil || n == 0 {
			return
		}
	}
}
