package archive

import (
	"errors"
	"io"
	"io/fs"
	"strings"

	"github.com/bodgit/sevenzip"
	"github.com/nwaples/rardecode/v2"

	"initium/internal/core/intake"
)

func walk7z(r io.ReaderAt, size int64, bounds intake.Bounds, visit visitor) error {
	if err := check7z(r, size, bounds); err != nil {
		return err
	}
	archive, err := sevenzip.NewReader(r, size)
	if err != nil {
		return damaged(err)
	}
	if err := bounds.CheckCount(len(archive.File)); err != nil {
		return err
	}
	for _, f := range archive.File {
		h := head{name: f.Name, size: int64(f.UncompressedSize), exec: f.Mode()&0o111 != 0, time: f.Modified}
		mode := f.Mode()
		switch {
		case mode.IsDir():
			h.kind = intake.Folder
		case mode&fs.ModeSymlink != 0:
			h.kind = intake.Link
			if h.target, err = readTarget(f.Open); err != nil {
				return unreadable(h.name, err)
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

// locked tells whether it is for want of a password that an archive cannot be read: one
// whose names can be read shows that only when its bytes make no sense.
func locked(err error) bool {
	var read *sevenzip.ReadError
	return errors.As(err, &read) && read.Encrypted ||
		errors.Is(err, rardecode.ErrArchiveEncrypted) || errors.Is(err, rardecode.ErrArchivedFileEncrypted)
}

func walkRar(r io.Reader, visit visitor) error {
	archive, err := rardecode.NewReader(r, rardecode.MaxDictionarySize(maxWindow))
	for err == nil {
		var f *rardecode.FileHeader
		if f, err = archive.Next(); err != nil {
			break
		}
		h := head{name: f.Name, size: f.UnPackedSize, exec: f.Mode()&0o111 != 0, target: strings.ReplaceAll(f.LinkTarget, `\`, "/"), time: f.ModificationTime}
		if f.UnKnownSize {
			h.size = -1
		}
		switch {
		case f.Encrypted || f.HeaderEncrypted:
			return entryError(h.name, errEncrypted)
		case f.LinkType == rardecode.LinkTypeHardLink || f.LinkType == rardecode.LinkTypeFileCopy:
			h.kind = intake.HardLink
		case f.LinkType != rardecode.LinkTypeNone || f.Mode()&fs.ModeSymlink != 0:
			h.kind = intake.Link
			if h.target == "" {
				if h.target, err = readTarget(func() (io.ReadCloser, error) { return io.NopCloser(archive), nil }); err != nil {
					return entryError(h.name, err)
				}
			}
		case f.IsDir:
			h.kind = intake.Folder
		case !f.Mode().IsRegular():
			return entryError(h.name, errSpecial)
		}
		if err := visit(h, func() (io.Reader, error) { return archive, nil }); err != nil {
			return err
		}
	}
	switch {
	case errors.Is(err, io.EOF):
		return nil
	case errors.Is(err, rardecode.ErrMultiVolume):
		return errors.New("it is one of several volumes; unpack them yourself and take the folder in")
	}
	return damaged(err)
}
