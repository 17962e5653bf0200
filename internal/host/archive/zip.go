package archive

import (
	"archive/zip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/flate"
	"golang.org/x/text/encoding/charmap"

	"initium/internal/core/intake"
)

// maxTarget is the longest target of a link, in bytes.
const maxTarget = 4096

var (
	errEncrypted = errors.New("is encrypted; unpack it yourself and take the folder in")
	errSpecial   = errors.New("is a device or a pipe, which no mod has")
)

// entryError says which entry of an archive is wrong.
func entryError(name string, err error) error {
	return fmt.Errorf("%q in it %w", clean(name), err)
}

func walkZip(r io.ReaderAt, size int64, bounds intake.Bounds, visit visitor) error {
	if err := checkDirectory(r, size, bounds); err != nil {
		return err
	}
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return fmt.Errorf("the archive is damaged or was not wholly fetched: %w", err)
	}
	if err := bounds.CheckCount(len(archive.File)); err != nil {
		return err
	}
	archive.RegisterDecompressor(zip.Deflate, flate.NewReader)
	for _, f := range archive.File {
		h := head{name: f.Name, size: int64(f.UncompressedSize64), exec: f.Mode()&0o111 != 0, time: f.Modified}
		if !utf8.ValidString(h.name) { // as old programs write names
			h.name, _ = charmap.CodePage437.NewDecoder().String(h.name)
		}
		mode := f.Mode()
		switch {
		case f.Flags&1 != 0:
			return entryError(h.name, errEncrypted)
		case strings.HasSuffix(h.name, "/") || strings.HasSuffix(h.name, `\`) || mode.IsDir():
			h.kind = intake.Folder
		case mode&fs.ModeSymlink != 0:
			h.kind = intake.Link
			if h.target, err = readTarget(f.Open); err != nil {
				return entryError(h.name, err)
			}
		case !mode.IsRegular():
			return entryError(h.name, errSpecial)
		}
		if err := visitFile(h, f.Open, visit); err != nil {
			return err
		}
	}
	return nil
}

// visitFile visits an entry whose bytes are opened only when they are wanted.
func visitFile(h head, open func() (io.ReadCloser, error), visit visitor) error {
	var opened io.ReadCloser
	err := visit(h, func() (io.Reader, error) {
		var err error
		opened, err = open()
		return opened, err
	})
	if opened != nil {
		opened.Close()
	}
	return err
}

// readTarget reads the target of a link, where an archive keeps it as the bytes
// of the entry.
func readTarget(open func() (io.ReadCloser, error)) (string, error) {
	r, err := open()
	if err != nil {
		return "", err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, maxTarget+1))
	if err == nil && len(data) > maxTarget {
		err = errors.New("is a link with too long a target")
	}
	return string(data), err
}

// checkDirectory looks, before the directory of a zip archive is read as a whole
// into memory, whether it is within bounds (APPNOTE.TXT 4.3.14 to 4.3.16).
func checkDirectory(r io.ReaderAt, size int64, bounds intake.Bounds) error {
	const endLength, locatorLength, end64Length = 22, 20, 56
	tail := make([]byte, min(size, endLength+locatorLength+1<<16))
	if _, err := r.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return err
	}
	at := strings.LastIndex(string(tail), "PK\x05\x06")
	if at < 0 || len(tail)-at < endLength {
		return errors.New("the archive has no end; it was probably not wholly fetched")
	}
	end := tail[at:]
	entries, length := uint64(binary.LittleEndian.Uint16(end[10:])), uint64(binary.LittleEndian.Uint32(end[12:]))
	if at >= locatorLength && string(tail[at-locatorLength:at-locatorLength+4]) == "PK\x06\x07" {
		where := int64(binary.LittleEndian.Uint64(tail[at-locatorLength+8:]))
		end64 := make([]byte, end64Length)
		if where < 0 || where > size-end64Length {
			return errors.New("the archive is damaged: its end points out of it")
		}
		if _, err := r.ReadAt(end64, where); err != nil {
			return err
		}
		entries, length = binary.LittleEndian.Uint64(end64[32:]), binary.LittleEndian.Uint64(end64[40:])
	}
	if entries > uint64(bounds.Files) {
		return bounds.CheckCount(bounds.Files + 1)
	}
	const most = 400 // bytes of directory for an entry, more than names have as a rule
	if length > most*uint64(bounds.Files) {
		return intake.BoundError{Why: fmt.Sprintf("its directory alone has %s, more than %d entries need", intake.Bytes(int64(min(length, 1<<62))), bounds.Files), Of: intake.BoundFiles}
	}
	return nil
}
