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
	"time"

	"initium/internal/host/disk"

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
	old  bool   // all that was read was there before the start
	last bool   // no more will come than is there now
	wide wideText
	out  sink
}

// fingerprint is how many bytes tell whether a file is still the one that was read: one
// may be cut off and have grown again before anybody looks.
const fingerprint = 128

// anew tells whether the file was begun anew since it was read last. written says that
// something was just written into it: if it is no longer then than what it held before
// the start, and the same, the same was written once more.
func (f *tailed) anew(written bool) bool {
	info, err := f.file.Stat()
	if err != nil || info.Size() < f.at {
		return err == nil
	}
	now, err := f.before()
	if err != nil {
		return false
	}
	return !bytes.Equal(now, f.seen) || written && f.old && f.at > 0 && info.Size() == f.at
}

// before reads the last bytes before the place that was read to.
func (f *tailed) before() ([]byte, error) {
	b := make([]byte, min(f.at, fingerprint))
	if len(b) == 0 {
		return b, nil
	}
	_, err := f.file.ReadAt(b, f.at-int64(len(b)))
	return b, err
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
	for f.read(false); ; f.read(false) {
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

// newTail looks at the files before the server is started. They need not be there, nor
// do their folders.
func newTail(names []string) (*tail, error) {
	t := &tail{stop: make(chan struct{}), stopped: make(chan struct{})}
	if len(names) == 0 {
		return t, nil
	}
	var err error
	if t.watcher, err = fsnotify.NewWatcher(); err != nil { // they are looked at in turn
		t.watcher = nil
	}
	for _, name := range names {
		f := &tailed{name: name, old: true}
		if t.watcher != nil {
			t.watcher.Add(filepath.Dir(name)) // a folder that comes later is looked at in turn
		}
		if f.file, err = disk.OpenPlain(name); err == nil {
			if f.at, err = f.file.Seek(0, io.SeekEnd); err == nil {
				f.seen, err = f.before()
			}
		}
		t.files = append(t.files, f)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.close()
			return nil, err
		}
	}
	return t, nil
}

func (t *tail) close() {
	for _, f := range t.files {
		if f.file != nil {
			f.file.Close()
		}
	}
	if t.watcher != nil {
		t.watcher.Close()
	}
}

// begin follows the files until end is called.
func (t *tail) begin(book *logbook) {
	if len(t.files) == 0 {
		close(t.stopped)
		return
	}
	var events chan fsnotify.Event
	if t.watcher != nil {
		events = t.watcher.Events
	}
	for _, f := range t.files {
		f.out = book.source(true)
	}
	go func() {
		defer close(t.stopped)
		ticker := time.NewTicker(tailEvery)
		defer ticker.Stop()
		for {
			var what fsnotify.Event
			select {
			case what = <-events:
			case <-ticker.C:
			case <-t.stop:
				t.drain(events)
				return
			}
			t.read(what)
		}
	}()
}

// lastEvents is how long what the server did last is waited for, once it has ended.
const lastEvents = 20 * time.Millisecond

func (t *tail) drain(events <-chan fsnotify.Event) {
	for {
		select {
		case what := <-events:
			t.read(what)
		case <-time.After(lastEvents):
			t.read(fsnotify.Event{})
			return
		}
	}
}

// end reads what is left and closes the files.
func (t *tail) end() {
	close(t.stop)
	<-t.stopped
	for _, f := range t.files {
		f.last = true
		f.rest(false)
		f.out.end()
	}
	t.close()
}

// read reads what is new in all files, after something has happened to one of them.
func (t *tail) read(what fsnotify.Event) {
	for _, f := range t.files {
		f.read(what.Has(fsnotify.Write) && what.Name == f.name)
	}
}

func (f *tailed) read(written bool) {
	f.rest(written)
	now, err := os.Stat(f.name)
	if err != nil {
		return // it is being moved away, or was never there
	}
	if f.file != nil {
		if own, err := f.file.Stat(); err == nil && os.SameFile(own, now) {
			return
		}
		f.rest(false) // what was written between the two looks
		f.out.end()
		f.file.Close()
	}
	file, err := disk.OpenPlain(f.name)
	if err != nil {
		f.file = nil
		return
	}
	f.file, f.at, f.seen, f.old = file, 0, f.seen[:0], false
	f.rest(false)
}

// rest hands on what is new in the file that is open. Whether it was begun anew is asked
// after each look into it: that may happen at any moment.
func (f *tailed) rest(written bool) {
	if f.file == nil {
		return
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := f.file.ReadAt(buf, f.at)
		if f.anew(written) {
			f.out.end()
			f.at, f.seen, f.old = 0, f.seen[:0], false
			continue
		}
		if f.at == 0 && n == 1 && !f.last {
			return // one byte does not tell yet what the file is written in
		}
		if n > 0 {
			if f.at == 0 || f.old {
				f.wide = wideTextOf(f.file)
			}
			f.at += int64(n)
			f.old = false
			f.seen = append(f.seen, buf[max(n-fingerprint, 0):n]...)
			f.seen = append(f.seen[:0], f.seen[max(len(f.seen)-fingerprint, 0):]...)
			f.out.write(f.wide.text(buf[:n]))
		}
		if err != nil || n == 0 {
			return
		}
	}
}
