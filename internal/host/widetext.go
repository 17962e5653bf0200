package host

import (
	"bytes"
	"errors"
	"os"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// wideText turns UTF-16 into UTF-8 as it comes; the zero value lets everything
// through as it is.
type wideText struct {
	decoder transform.Transformer
	rest    []byte // of a character that has begun
}

// wideTextOf tells by the first bytes of a file whether it is UTF-16, with a byte-order
// mark or, where the text begins with plain characters, without.
func wideTextOf(f *os.File) wideText {
	head := make([]byte, 4)
	n, _ := f.ReadAt(head, 0) // what there is will do
	head = head[:n]
	order := unicode.LittleEndian
	switch {
	case bytes.HasPrefix(head, []byte("\xfe\xff")), n > 1 && head[0] == 0 && head[1] != 0:
		order = unicode.BigEndian
	case bytes.HasPrefix(head, []byte("\xff\xfe")), n > 1 && head[0] != 0 && head[1] == 0:
	default:
		return wideText{}
	}
	return wideText{decoder: unicode.UTF16(order, unicode.IgnoreBOM).NewDecoder()}
}

// text is what a piece of the file comes to.
func (w *wideText) text(piece []byte) []byte {
	if w.decoder == nil {
		return piece
	}
	src := append(w.rest, piece...)
	out := make([]byte, 0, 2*len(src)+8)
	for {
		buf := make([]byte, 2*len(src)+8)
		wrote, read, err := w.decoder.Transform(buf, src, false)
		out, src = append(out, buf[:wrote]...), src[read:]
		if !errors.Is(err, transform.ErrShortDst) {
			break
		}
	}
	w.rest = bytes.Clone(src)
	return bytes.ReplaceAll(out, []byte("\ufeff"), nil) // the mark is no text
}
