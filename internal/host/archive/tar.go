package archive

import (
	"archive/tar"
	"bufio"
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
		buffered := bufio.NewReaderSize(r, 1<<16)
		if err := checkXz(buffered); err != nil {
			return nil, nil, err
		}
		z, err := xz.NewReader(buffered)
		return z, nothing, err
	case FormZstd:
		z, err := zstd.NewReader(r, zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	}
	return r, nothing, nil
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
	if bits > 40 || (2|uint64(bits&1))<<(bits/2+11) > maxWindow {
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
	if form != FormTar && !isTar(first) {
		if len(first) == 512 && !allZero(first) || len(first) < 512 {
			return visit(head{size: -1}, func() (io.Reader, error) { return buffered, nil }) // one packed file
		}
	}
	archive := tar.NewReader(buffered)
	for {
		entry, err := archive.Next()
		if err == io.EOF {
			// What follows is padding, and the sum over the whole. Something else may have
			// been put behind it, which is nobody's business.
			if _, err := io.CopyN(io.Discard, buffered, 1<<20); err != nil && err != io.EOF && !errors.Is(err, gzip.ErrHeader) {
				return damaged(err)
			}
			return nil
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
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
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return errors.New("the archive ends too early; it was probably not wholly fetched")
	}
	return fmt.Errorf("the archive is damaged: %w", err)
}
