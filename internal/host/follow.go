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
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/klauspost/compress/zstd"
)

// pieceStart says where a piece of a log begins.
type pieceStart struct {
	piece int
	lines int // line ends before it
}

// Log is the path of the kept log, or of its first piece when it is long: the
// bytes as the server wrote them.
func (d StartDir) Log() string { return d.piece(0) }

func (d StartDir) piece(n int) string {
	if n == 0 {
		return filepath.Join(string(d), "log")
	}
	return filepath.Join(string(d), fmt.Sprintf("log.%05d", n))
}

func (d StartDir) packedPiece(n int) string { return d.piece(n) + ".zst" }
func (d StartDir) pieceTimes(n int) string  { return d.piece(n) + ".times" }
func (d StartDir) pieces() string           { return filepath.Join(string(d), "log.pieces") }

// notePiece notes where a further piece begins.
func (d StartDir) notePiece(p pieceStart) error {
	f, err := os.OpenFile(d.pieces(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "%d %d\n", p.piece, p.lines)
	return errors.Join(err, f.Close())
}

// pieceStarts lists where the pieces of a log begin.
func (d StartDir) pieceStarts() ([]pieceStart, error) {
	list := []pieceStart{{}}
	data, err := os.ReadFile(d.pieces())
	if errors.Is(err, fs.ErrNotExist) {
		return list, nil
	}
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		var p pieceStart
		if !strings.HasSuffix(line, "\n") {
			break // it is being written
		}
		if _, err := fmt.Sscanf(line, "%d %d\n", &p.piece, &p.lines); err != nil {
			return nil, fmt.Errorf("read %s: %w", d.pieces(), err)
		}
		for len(list) > 1 && list[len(list)-1].piece >= p.piece {
			list = list[:len(list)-1] // it could not be begun the first time
		}
		list = append(list, p)
	}
	return list, nil
}

// after goes on to the next piece, if there is one.
func (d StartDir) after(at *pieceStart) (more bool, err error) {
	starts, err := d.pieceStarts()
	if err != nil {
		return false, err
	}
	for _, p := range starts {
		if p.piece > at.piece {
			*at = p
			return true, nil
		}
	}
	return false, nil
}

// openPiece opens a piece, packed or not; fs.ErrNotExist when it is not kept.
func (d StartDir) openPiece(n int) (io.ReadCloser, error) {
	f, err := os.Open(d.piece(n))
	if err == nil {
		return f, nil
	}
	if n == 0 || !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if f, err = os.Open(d.packedPiece(n)); err != nil {
		return nil, err
	}
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
	if err != nil {
		f.Close()
		return nil, err
	}
	return packed{z, f}, nil
}

type packed struct {
	*zstd.Decoder
	file *os.File
}

func (p packed) Close() error {
	p.Decoder.Close()
	return p.file.Close()
}

// maxNote is how long a note about lines that are not kept is at most.
const maxNote = 80

// Follower reads the log of a start as it grows, from its first line.
type Follower struct {
	dir   StartDir
	at    pieceStart
	log   io.ReadCloser
	times *os.File
	rest  []byte // of times: a line that has begun
	read  int64  // bytes of the piece that were handed out
	lines int    // line ends that were handed out or passed over
	last  time.Duration

	watcher *fsnotify.Watcher
}

// Follow begins at the start of the log.
func (d StartDir) Follow() *Follower {
	f := &Follower{dir: d}
	if w, err := fsnotify.NewWatcher(); err == nil {
		if w.Add(string(d)) == nil {
			f.watcher = w
		} else {
			w.Close()
		}
	}
	return f
}

// Wait waits until there may be something new, or until a limit has passed.
func (f *Follower) Wait(ctx context.Context, limit time.Duration) {
	if f.watcher == nil {
		select {
		case <-ctx.Done():
		case <-time.After(min(limit, tick)):
		}
		return
	}
	timer := time.NewTimer(limit)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	case <-f.watcher.Errors: // some events were lost: look
	case <-f.watcher.Events:
		for { // one look will do for all of them
			select {
			case <-f.watcher.Events:
			default:
				return
			}
		}
	}
}

// Next hands every new piece of the log to feed, with the time of its arrival
// after the start. Lines that are not kept any more are handed out without text.
// more tells that there is more than is handed out at once.
func (f *Follower) Next(feed func(chunk []byte, at time.Duration)) (more bool, err error) {
	for {
		if f.log == nil {
			if ok, err := f.open(feed); err != nil || !ok {
				return false, err
			}
		}
		next := f.at
		full, err := f.dir.after(&next) // asked before the piece is read: one that is full by then does not grow
		if err != nil {
			return false, err
		}
		if more, err := f.drain(feed); err != nil || more || !full {
			return more, err
		}
		f.closePiece()
		f.at = next
	}
}

// atOnce bounds how much is handed out at once, in bytes: a server may say more
// than anybody reads.
const atOnce = 4 << 20

// open opens the piece that is to be read next. One that is not kept any more is
// passed over.
func (f *Follower) open(feed func([]byte, time.Duration)) (ok bool, err error) {
	for {
		var log io.ReadCloser
		if log, err = f.dir.openPiece(f.at.piece); err == nil {
			if f.times, err = os.Open(f.dir.pieceTimes(f.at.piece)); err == nil {
				f.log = log
				break
			}
			log.Close()
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return false, err
		}
		if more, err := f.dir.after(&f.at); err != nil || !more {
			return false, err
		}
	}
	for g := (gap{f.at.lines - f.lines, true}); g.left > 0; {
		blank := make([]byte, min(g.left+maxNote, pieceSize))
		n := g.read(blank)
		f.lines += bytes.Count(blank[:n], []byte{'\n'})
		feed(blank[:n], f.last)
	}
	f.read, f.rest = 0, f.rest[:0]
	return true, nil
}

// drain hands out what is new in the piece that is open.
func (f *Follower) drain(feed func([]byte, time.Duration)) (more bool, err error) {
	fresh, err := io.ReadAll(f.times)
	if err != nil {
		return false, err
	}
	f.rest = append(f.rest, fresh...)
	for begin := f.read; ; {
		end := bytes.IndexByte(f.rest, '\n')
		if end < 0 || f.read-begin >= atOnce {
			return end >= 0, nil
		}
		var offset, millis int64
		if _, err := fmt.Sscanf(string(f.rest[:end]), "%d %d", &offset, &millis); err != nil {
			return false, fmt.Errorf("read %s: %w", f.dir.pieceTimes(f.at.piece), err)
		}
		f.rest = f.rest[end+1:]
		f.last = max(f.last, time.Duration(millis)*time.Millisecond)
		if offset <= f.read {
			continue
		}
		chunk := make([]byte, offset-f.read)
		n, err := io.ReadFull(f.log, chunk)
		f.read += int64(n)
		f.lines += bytes.Count(chunk[:n], []byte{'\n'})
		feed(chunk[:n], f.last)
		if err != nil {
			return false, fmt.Errorf("the log %s is shorter than was written to it: %w", f.dir.piece(f.at.piece), err)
		}
	}
}

func (f *Follower) closePiece() {
	if f.log != nil {
		f.log.Close()
		f.times.Close()
		f.log = nil
	}
}

// Close closes the log.
func (f *Follower) Close() {
	f.closePiece()
	if f.watcher != nil {
		f.watcher.Close()
	}
}

// OpenLog opens all that is kept of a log, by the path of its first piece.
func OpenLog(first string) io.ReadCloser { return &wholeLog{dir: StartDir(filepath.Dir(first))} }

// wholeLog reads the pieces of a log one after the other.
type wholeLog struct {
	dir   StartDir
	at    pieceStart
	log   io.ReadCloser
	gap   gap
	lines int // line ends that were read
}

// Read reads on; what is not kept any more is read as lines without text.
func (w *wholeLog) Read(p []byte) (int, error) {
	for {
		if w.gap.left > 0 {
			n := w.gap.read(p)
			w.lines += bytes.Count(p[:n], []byte{'\n'})
			return n, nil
		}
		if w.log == nil {
			log, err := w.dir.openPiece(w.at.piece)
			switch {
			case err == nil:
				w.log, w.gap = log, gap{w.at.lines - w.lines, true}
				continue
			case !errors.Is(err, fs.ErrNotExist) || w.at.piece == 0:
				return 0, err
			}
		} else {
			n, err := w.log.Read(p)
			w.lines += bytes.Count(p[:n], []byte{'\n'})
			if n > 0 || err != io.EOF {
				return n, err
			}
			if err := w.Close(); err != nil {
				return 0, err
			}
		}
		if more, err := w.dir.after(&w.at); err != nil {
			return 0, err
		} else if !more {
			return 0, io.EOF
		}
	}
}

// Close closes the piece that is open.
func (w *wholeLog) Close() error {
	if w.log == nil {
		return nil
	}
	log := w.log
	w.log = nil
	return log.Close()
}

// gap stands for lines that are not kept any more: it is read as as many lines, of
// which the first says so.
type gap struct {
	left  int // lines
	fresh bool
}

func (g *gap) read(p []byte) (n int) {
	if g.fresh {
		note := fmt.Sprintf("initium: %d lines from here on are not kept any more", g.left)
		if len(p) > len(note) {
			n = copy(p, note)
		}
		g.fresh = false
	}
	for ; n < len(p) && g.left > 0; n++ {
		p[n] = '\n'
		g.left--
	}
	return n
}
