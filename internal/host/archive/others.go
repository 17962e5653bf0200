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
	archive, err := sevenzip.NewReader(r, size)
	if err != nil {
		var read *sevenzip.ReadError
		if errors.As(err, &read) && read.Encrypted {
			return errors.New("the archive " + errEncrypted.Error())
		}
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
				return entryError(h.name, err)
			}
		case !mode.IsRegular():
			return entryError(h.name, errSpecial)
		}
		err := visitFile(h, func() (io.ReadCloser, error) {
			opened, err := f.Open()
			if read := new(sevenzip.ReadError); errors.As(err, &read) && read.Encrypted {
				err = errEncrypted
			}
			return opened, err
		}, visit)
		if err != nil {
			return err
		}
	}
	return nil
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
	case errors.Is(err, rardecode.ErrArchiveEncrypted), errors.Is(err, rardecode.ErrArchivedFileEncrypted):
		return errors.New("the archive " + errEncrypted.Error())
	case errors.Is(err, rardecode.ErrMultiVolume):
		return errors.New("it is one of several volumes; unpack them yourself and take the folder in")
	}
	return damaged(err)
}
