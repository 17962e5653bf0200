package archive

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"initium/internal/core/intake"
)

// maxWindow bounds the memory that unpacking a stream may take, in bytes.
const maxWindow = 256 << 20

// unpacked is the stream inside a packed one.
func unpacked(form Form, r io.Reader) (io.Reader, func(), error) {
	nothing := func() {}
	switch form {
	case FormGzip:
		z, err := gzip.NewReader(r)
		return z, nothing, err
	case FormBzip2:
		return bzip2.NewReader(r), nothing, nil
	case FormXz:
		packed := &tail{r: r}
		buffered := bufio.NewReaderSize(packed, 1<<16)
		if err := checkXz(buffered); err != nil {
			return nil, nil, err
		}
		z, err := xz.NewReader(buffered)
		return &wholeXz{z, packed}, nothing, err
	case FormZstd:
		z, err := zstd.NewReader(r, zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	}
	return r, nothing, nil
}

// tail remembers the last bytes that were read.
type tail struct {
	r     io.Reader
	last  []byte
	ended bool // all was read
}

// tailLength is how many bytes a tail remembers: a block of a tar archive.
const tailLength = 512

func (t *tail) Read(b []byte) (int, error) {
	n, err := t.r.Read(b)
	t.last = append(t.last, b[max(0, n-tailLength):n]...)
	if more := len(t.last) - tailLength; more > 0 {
		t.last = append(t.last[:0], t.last[more:]...)
	}
	t.ended = t.ended || err == io.EOF
	return n, err
}

// wholeXz is what was packed in a stream of xz. One that is cut off within the header of a
// block is held for one that ends by the package that reads it; but every stream ends with
// the same two bytes, and perhaps padding (the .xz file format 2.1.2.4, 2.2).
type wholeXz struct {
	io.Reader
	packed *tail
}

func (w *wholeXz) Read(b []byte) (int, error) {
	n, err := w.Reader.Read(b)
	if err == io.EOF && !bytes.HasSuffix(bytes.TrimRight(w.packed.last, "\x00"), []byte("YZ")) {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// checkXz refuses a stream whose first block wants more memory than maxWindow
// (the .xz file format 3.1, 5.3.1: filter 0x21 has one byte, the size of its
// dictionary).
func checkXz(r *bufio.Reader) error {
	const header, filter = 12, 2 // of the stream; of a block, before its filters
	block, err := r.Peek(header + 64)
	if err != nil && len(block) < header+8 {
		return nil // too short to want anything
	}
	b := block[header:]
	at := filter
	for _, flag := range []byte{0x40, 0x80} { // sizes that may stand before the filters
		if b[1]&flag == 0 {
			continue
		}
		for at < len(b) && b[at]&0x80 != 0 {
			at++
		}
		at++
	}
	if at+2 >= len(b) || b[at] != 0x21 || b[at+1] != 1 {
		return nil
	}
	bits := uint(b[at+2] & 0x3f)
	if (2|uint64(bits&1))<<(bits/2+11) > maxWindow {
		return fmt.Errorf("unpacking it would take more than %s of memory", intake.Bytes(maxWindow))
	}
	return nil
}

func walkTar(form Form, packed io.Reader, visit visitor) error {
	stream, end, err := unpacked(form, packed)
	if err != nil {
		return damaged(err)
	}
	defer end()
	buffered := bufio.NewReaderSize(stream, 1<<17)
	first, err := buffered.Peek(512)
	if err != nil && !errors.Is(err, io.EOF) {
		return damaged(err)
	}
	if form != FormTar && !isTar(first) && (len(first) < 512 || !allZero(first)) {
		return visit(head{size: -1}, func() (io.Reader, error) { return buffered, nil }) // one packed file
	}
	read := &tail{r: buffered}
	archive := tar.NewReader(read)
	for {
		entry, err := archive.Next()
		if err == io.EOF {
			return tarEnd(read, buffered)
		}
		if err != nil {
			return damaged(err)
		}
		h := head{name: entry.Name, size: entry.Size, exec: entry.Mode&0o111 != 0, target: entry.Linkname, time: entry.ModTime}
		switch entry.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
		case tar.TypeDir:
			h.kind = intake.Folder
		case tar.TypeSymlink:
			h.kind = intake.Link
		case tar.TypeLink:
			h.kind = intake.HardLink
		case tar.TypeXGlobalHeader:
			continue
		default:
			return entryError(h.name, errSpecial)
		}
		if err := visit(h, func() (io.Reader, error) { return archive, nil }); err != nil {
			return err
		}
	}
}

// tarEnd looks at how an archive ends whose entries are all read.
func tarEnd(read *tail, rest io.Reader) error {
	// A block of zeros ends an archive; one that simply stops was cut off behind an entry.
	if read.ended && !(len(read.last) == tailLength && allZero(read.last)) {
		return errors.New("the archive has no end; it was probably not wholly fetched (if it was made so, unpack it yourself and take the folder in)")
	}
	// What follows is padding, and the sum over the whole. Something else may have
	// been put behind it, which is nobody's business.
	if _, err := io.CopyN(io.Discard, rest, 1<<20); err != nil && err != io.EOF && !errors.Is(err, gzip.ErrHeader) {
		return damaged(err)
	}
	return nil
}

func allZero(b []byte) bool {
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}

// damaged says in an operator's words that an archive cannot be read.
func damaged(err error) error {
	if locked(err) {
		return errors.New("the archive " + errEncrypted.Error())
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return errors.New("the archive ends too early; it was probably not wholly fetched")
	}
	return fmt.Errorf("the archive is damaged: %w", err)
}
