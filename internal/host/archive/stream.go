package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Stream is the text of one file: unpacked when it is packed, as UTF-8 when it
// is UTF-16. It is told by the content, not by the name.
type Stream struct {
	io.Reader
	close []func() error
}

var errNoFile = errors.New("it is no file; what comes out of a pipe can be read as the standard input, with - for its name")

// OpenStream opens a file as a stream of text; "-" is what in hands out.
func OpenStream(name string, in io.Reader) (*Stream, error) {
	s := &Stream{}
	if name != "-" {
		f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
		if err != nil {
			return nil, err
		}
		if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() { // a pipe can be read once, and may never end
			return nil, errors.Join(err, errNoFile, f.Close())
		}
		s.close = append(s.close, f.Close)
		in = f
	}
	buffered := bufio.NewReaderSize(in, 1<<16)
	head, err := buffered.Peek(512)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, errors.Join(err, s.Close())
	}
	var text io.Reader = buffered
	switch form := identify(bytes.NewReader(head)); form {
	case FormGzip, FormBzip2, FormXz, FormZstd:
		stream, end, err := unpacked(form, buffered)
		if err != nil {
			return nil, errors.Join(damaged(err), s.Close())
		}
		s.close = append(s.close, func() error { end(); return nil })
		inner := bufio.NewReaderSize(stream, 1<<16)
		if head, err = inner.Peek(512); err != nil && !errors.Is(err, io.EOF) {
			return nil, errors.Join(damaged(err), s.Close())
		}
		text = inner
	case FormZip:
		if name == "-" {
			return nil, errors.New("it is a zip archive, which cannot be read from a pipe; unpack the log first")
		}
		z, end, err := loneFile(name)
		if err != nil {
			return nil, errors.Join(err, s.Close())
		}
		s.close = append(s.close, end)
		inner := bufio.NewReaderSize(z, 1<<16)
		if head, err = inner.Peek(512); err != nil && !errors.Is(err, io.EOF) {
			return nil, errors.Join(damaged(err), s.Close())
		}
		text = inner
	case Form7z, FormRar, FormTar:
		return nil, errors.Join(errors.New("it is an archive; unpack the log first"), s.Close())
	}
	switch {
	case bytes.HasPrefix(head, []byte("\xff\xfe")), bytes.HasPrefix(head, []byte("\xfe\xff")):
		text = transform.NewReader(text, unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder())
	case len(head) > 3 && head[0] != 0 && head[1] == 0 && head[2] != 0 && head[3] == 0:
		text = transform.NewReader(text, unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewDecoder())
	}
	s.Reader = text
	return s, nil
}

// loneFile opens the only file of a zip archive.
func loneFile(name string) (in io.Reader, end func() error, err error) {
	z, err := zip.OpenReader(name)
	if err != nil {
		return nil, nil, damaged(err)
	}
	var files []*zip.File
	for _, f := range z.File {
		if f.Mode().IsRegular() {
			files = append(files, f)
		}
	}
	if len(files) != 1 {
		return nil, nil, errors.Join(fmt.Errorf("it is a zip archive of %d files; unpack the log first", len(files)), z.Close())
	}
	r, err := files[0].Open()
	if err != nil {
		return nil, nil, errors.Join(damaged(err), z.Close())
	}
	return r, func() error { return errors.Join(r.Close(), z.Close()) }, nil
}

// Close closes the file.
func (s *Stream) Close() (err error) {
	for i := len(s.close) - 1; i >= 0; i-- {
		err = errors.Join(err, s.close[i]())
	}
	return err
}
