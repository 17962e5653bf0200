package host

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"initium/internal/host/disk"

	"github.com/klauspost/compress/zstd"
)

// A log is kept in pieces. The first stays as it is, so that anything can read
// it: it holds the start. Later ones are packed once they are full; when there are
// too many, the oldest but the first go. Lines keep their numbers all the same.
const (
	pieceSize = 16 << 20 // bytes; a piece ends with a line, unless that is longer still
	maxPieces = 256
)

// FirstPiece is how long the first piece of a log is, in bytes, give or take a line:
// what a server says while it starts is in it.
const FirstPiece = pieceSize

// logbook writes a log, and for each piece of it that arrives when it did.
type logbook struct {
	dir   StartDir
	began time.Time

	mu          sync.Mutex
	piece       int
	file, times *os.File
	size        int64 // of the piece that is written, in bytes
	timed       int64 // of its times, in bytes
	lines       int   // line ends in all
	ended       bool  // the last byte ended a line
	lost        lost
	packing     sync.WaitGroup
}

// lost is what could not be kept.
type lost struct {
	bytes, lines int
	err          error
}

func newLogbook(dir StartDir, began time.Time) (*logbook, error) {
	b := &logbook{dir: dir, began: began, ended: true}
	return b, b.open()
}

func (b *logbook) open() (err error) {
	const flags = os.O_CREATE | os.O_WRONLY | os.O_APPEND
	if b.file, err = os.OpenFile(b.dir.piece(b.piece), flags, 0o600); err != nil {
		return err
	}
	if b.times, err = os.OpenFile(b.dir.pieceTimes(b.piece), flags, 0o600); err != nil {
		b.file.Close()
	}
	return err
}

// write keeps what has arrived. A disk that is full must not stop the server:
// what cannot be kept is counted, and said in the log as soon as there is room.
func (b *logbook) write(p []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.size >= pieceSize {
		if cut := bytes.LastIndexByte(p, '\n') + 1; cut > 0 || b.size >= 2*pieceSize {
			b.put(p[:cut])
			p = p[cut:]
			b.turn()
		}
	}
	b.put(p)
}

func (b *logbook) put(p []byte) {
	if len(p) == 0 {
		return
	}
	whole := p
	if b.lost.bytes > 0 {
		note := fmt.Sprintf("initium: %d bytes in %d lines could not be kept here: %v\n", b.lost.bytes, b.lost.lines, b.lost.err)
		if !b.ended {
			note = "\n" + note
		}
		whole = append([]byte(note), p...)
	}
	if _, err := b.file.Write(whole); err != nil {
		b.file.Truncate(b.size)
		b.lost.bytes, b.lost.lines, b.lost.err = b.lost.bytes+len(p), b.lost.lines+bytes.Count(p, []byte{'\n'}), disk.PlainCause(err)
		return
	}
	b.lost = lost{}
	b.size += int64(len(whole))
	b.lines += bytes.Count(whole, []byte{'\n'})
	b.ended = whole[len(whole)-1] == '\n'
	n, err := fmt.Fprintf(b.times, "%d %d\n", b.size, time.Since(b.began).Milliseconds())
	if err != nil { // half a line would be taken for another; the next one tells of this piece too
		b.times.Truncate(b.timed)
		return
	}
	b.timed += int64(n)
}

// turn begins a new piece. When that cannot be done the old one goes on.
func (b *logbook) turn() {
	full, file, times := b.piece, b.file, b.times
	b.piece++
	err := b.dir.notePiece(pieceStart{b.piece, b.lines})
	if err == nil {
		err = b.open()
	}
	if err != nil {
		b.piece, b.file, b.times = full, file, times
		return
	}
	file.Close()
	times.Close()
	b.size, b.timed = 0, 0
	if old := b.piece - maxPieces; old > 0 {
		b.dir.removePiece(old)
	}
	if full > 0 {
		b.packing.Go(func() { b.dir.packPiece(full) })
	}
}

func (b *logbook) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.file.Close()
	b.times.Close()
	b.packing.Wait()
}

// source hands what one place says to the log. When there are several places,
// their lines are kept whole.
func (b *logbook) source(several bool) *source { return &source{book: b, several: several} }

type source struct {
	book    *logbook
	several bool
	rest    []byte // of a line that has begun
}

// maxHeld bounds how much of a line waits for its end, in bytes.
const maxHeld = 64 << 10

func (s *source) write(p []byte) {
	if !s.several {
		s.book.write(p)
		return
	}
	s.rest = append(s.rest, p...)
	if end := bytes.LastIndexByte(s.rest, '\n') + 1; end > 0 {
		s.book.write(s.rest[:end])
		s.rest = append(s.rest[:0], s.rest[end:]...)
	}
	if len(s.rest) > maxHeld {
		s.end()
	}
}

// end ends a line that has begun.
func (s *source) end() {
	if len(s.rest) > 0 {
		s.book.write(append(s.rest, '\n'))
		s.rest = s.rest[:0]
	}
}

func (s *source) copyFrom(r io.Reader) {
	buf := make([]byte, 64<<10)
	for {
		n, err := r.Read(buf)
		if n > 0 {
			s.write(buf[:n])
		}
		if err != nil {
			s.end()
			return
		}
	}
}

// packPiece packs a piece that is full. One that cannot be packed stays as it is.
func (d StartDir) packPiece(n int) {
	in, err := os.Open(d.piece(n))
	if err != nil {
		return
	}
	defer in.Close()
	part := d.packedPiece(n) + ".part"
	out, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return
	}
	defer out.Close()
	w, err := zstd.NewWriter(out, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20), zstd.WithLowerEncoderMem(true))
	if err == nil {
		_, err = io.Copy(w, in)
		err = errors.Join(err, w.Close(), out.Sync())
	}
	if err == nil {
		err = os.Rename(part, d.packedPiece(n))
	}
	if err != nil {
		os.Remove(part)
		return
	}
	os.Remove(d.piece(n))
}

func (d StartDir) removePiece(n int) {
	for _, name := range []string{d.piece(n), d.packedPiece(n), d.pieceTimes(n)} {
		os.Remove(name)
	}
}

// HandedLog writes the log of a start whose server no keeper runs, as it comes from elsewhere. It may be used from
// several goroutines.
type HandedLog struct {
	mu   sync.Mutex
	book *logbook
	from *source
}

// HandLog begins the log of a start that began at some time.
func (d StartDir) HandLog(began time.Time) (*HandedLog, error) {
	book, err := newLogbook(d, began)
	if err != nil {
		return nil, fmt.Errorf("keep the log of a start: %w", err)
	}
	return &HandedLog{book: book, from: book.source(true)}, nil
}

// Write keeps what has come; a line when it is whole.
func (l *HandedLog) Write(p []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.from.write(p)
}

// End ends a line that has begun.
func (l *HandedLog) End() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.from.end()
}

// Close closes the log.
func (l *HandedLog) Close() {
	l.End()
	l.book.close()
}
