package archive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"

	"github.com/ulikunitz/xz/lzma"

	"initium/internal/core/intake"
)

// A 7z archive begins with where its directory is, which may be packed itself (7zFormat.txt,
// which comes with the LZMA SDK). Numbers in the directory say how many things follow; they
// are held to what there is room for before anything is made ready for so many.

// maxSevenHead bounds the directory of a 7z archive, in bytes, packed and unpacked.
const maxSevenHead = 64 << 20

var errSevenHead = errors.New("its directory says what cannot be")

// check7z looks through the directory of a 7z archive, whether it is within bounds, and
// whether what is in it can be unpacked in maxWindow of memory.
func check7z(r io.ReaderAt, size int64, bounds intake.Bounds) error {
	start := make([]byte, 32)
	if _, err := r.ReadAt(start, 0); err != nil {
		return damaged(err)
	}
	at, length := binary.LittleEndian.Uint64(start[12:]), binary.LittleEndian.Uint64(start[20:])
	if length == 0 {
		return nil // an archive of nothing
	}
	if length > maxSevenHead {
		return intake.BoundError{Why: fmt.Sprintf("its directory alone has %s", intake.Bytes(int64(min(length, 1<<62))))}
	}
	if at > uint64(size) || length > uint64(size)-at || 32+at+length > uint64(size) {
		return damaged(errors.New("its end points out of it"))
	}
	head := make([]byte, length)
	if _, err := r.ReadAt(head, int64(32+at)); err != nil {
		return damaged(err)
	}
	for depth := 0; ; depth++ {
		h := &sevenHead{rest: head, bounds: bounds}
		switch h.byte() {
		case 0x01:
			return h.checked(h.header())
		case 0x17:
			h.streams()
			if err := h.checked(nil); err != nil {
				return err
			}
			if depth == 4 {
				return damaged(errSevenHead)
			}
			var err error
			if head, err = h.unpack(r, size); err != nil {
				return err
			}
		default:
			return damaged(errSevenHead)
		}
	}
}

// sevenHead reads a directory. After the first thing that cannot be, everything reads as
// nothing.
type sevenHead struct {
	rest   []byte
	bounds intake.Bounds
	err    error

	// Of a directory that is packed: where, and how.
	packed, packedSize uint64
	method, properties []byte // of its last coder
	coders             int
	locked             bool // by a password
	unpackedSize       uint64
}

func (h *sevenHead) fail(err error) {
	if h.err == nil {
		h.err = err
	}
	h.rest = nil
}

// checked is what was wrong so far, or err.
func (h *sevenHead) checked(err error) error {
	if h.err == nil {
		return err
	}
	var bound intake.BoundError
	var memory memoryError
	if errors.As(h.err, &bound) || errors.As(h.err, &memory) {
		return h.err
	}
	return damaged(h.err)
}

func (h *sevenHead) byte() byte {
	if b := h.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (h *sevenHead) take(n uint64) []byte {
	if n > uint64(len(h.rest)) {
		h.fail(io.ErrUnexpectedEOF)
		return nil
	}
	b := h.rest[:n:n]
	h.rest = h.rest[n:]
	return b
}

// number reads a number: as many further bytes belong to it as its first has leading ones.
func (h *sevenHead) number() (v uint64) {
	first := h.byte()
	more := bits.LeadingZeros8(^first)
	if more < 7 {
		v = uint64(first&(1<<(7-more)-1)) << (8 * more)
	}
	for i, b := range h.take(uint64(more)) {
		v |= uint64(b) << (8 * i)
	}
	return v
}

// count reads how many things follow, each of which takes at least a byte.
func (h *sevenHead) count() uint64 {
	n := h.number()
	if n > uint64(len(h.rest)) {
		h.fail(errSevenHead)
		return 0
	}
	return n
}

// digests passes over the sums of n things, and tells which of them have one; nil for all.
func (h *sevenHead) digests(n uint64) (some []byte) {
	defined := n
	if h.byte() == 0 {
		defined = 0
		some = h.take((n + 7) / 8)
		for _, b := range some {
			defined += uint64(bits.OnesCount8(b))
		}
	}
	if defined > uint64(len(h.rest)) {
		h.fail(errSevenHead)
		return nil
	}
	h.take(4 * defined)
	return some
}

func (h *sevenHead) header() error {
	kind := h.byte()
	if kind == 0x02 { // properties of the archive
		for h.byte() != 0 {
			h.take(h.number())
		}
		kind = h.byte()
	}
	for ; kind == 0x03 || kind == 0x04; kind = h.byte() {
		h.streams()
	}
	if kind == 0x05 {
		if err := h.bounds.CheckCount(int(min(h.number(), 1<<31-1))); err != nil {
			h.fail(err)
		}
	}
	return nil // what is said of the files takes no more room than it has
}

// streams reads what is packed, and how.
func (h *sevenHead) streams() {
	folders, summed := 0, func(int) bool { return false }
	kind := h.byte()
	if kind == 0x06 {
		h.places()
		kind = h.byte()
	}
	if kind == 0x07 {
		folders, summed = h.folders()
		kind = h.byte()
	}
	if kind == 0x08 {
		h.substreams(folders, summed)
		kind = h.byte()
	}
	if kind != 0 {
		h.fail(errSevenHead)
	}
}

// places reads where the packed streams are.
func (h *sevenHead) places() {
	h.packed = h.number()
	n := h.count()
	for kind := h.byte(); kind != 0 && h.err == nil; kind = h.byte() {
		switch kind {
		case 0x09:
			for i := range n {
				if size := h.number(); i == 0 {
					h.packedSize = size
				}
			}
		case 0x0a:
			h.digests(n)
		default:
			h.fail(errSevenHead)
		}
	}
}

// folders reads by what things are packed, and tells which of them have a sum.
func (h *sevenHead) folders() (folders int, summed func(int) bool) {
	summed = func(int) bool { return false }
	if h.byte() != 0x0b {
		h.fail(errSevenHead)
	}
	n := h.count()
	if h.byte() != 0 { // elsewhere, which nobody writes
		h.fail(errSevenHead)
	}
	if err := h.bounds.CheckCount(int(n)); err != nil { // each is of a file at least
		h.fail(err)
		return 0, summed
	}
	outs := uint64(0) // streams that come out of them
	for range n {
		outs += h.folder()
	}
	for kind := h.byte(); kind != 0 && h.err == nil; kind = h.byte() {
		switch kind {
		case 0x0c:
			for range outs {
				h.unpackedSize = h.number()
			}
		case 0x0a:
			some := h.digests(n)
			summed = func(i int) bool { return some == nil || some[i/8]&(0x80>>(i%8)) != 0 }
		default:
			h.fail(errSevenHead)
		}
	}
	return int(n), summed
}

// substreams reads how many files are in each folder, with their sizes and sums.
func (h *sevenHead) substreams(folders int, summed func(int) bool) {
	files := make([]uint64, folders)
	all, sizes, sums := uint64(0), uint64(0), uint64(0)
	kind := h.byte()
	for i := range files {
		if files[i] = 1; kind == 0x0d {
			files[i] = h.number()
		}
		if files[i] > 1<<31 || h.bounds.CheckCount(int(all+files[i])) != nil {
			h.fail(h.bounds.CheckCount(h.bounds.Files + 1))
			return
		}
		all += files[i]
		sizes += files[i] - min(files[i], 1)
		if files[i] != 1 || !summed(i) {
			sums += files[i]
		}
	}
	if kind == 0x0d {
		kind = h.byte()
	}
	if kind == 0x09 {
		for range sizes {
			if h.number(); h.err != nil {
				return
			}
		}
		kind = h.byte()
	}
	if kind == 0x0a {
		h.digests(sums)
		kind = h.byte()
	}
	if kind != 0 {
		h.fail(errSevenHead)
	}
}

// memoryError refuses what could only be unpacked in so many bytes of memory.
type memoryError uint64

func (n memoryError) Error() string {
	return fmt.Sprintf("unpacking it would take %s of memory", intake.Bytes(int64(min(n, 1<<62))))
}

// folder reads how something is packed: by which coders, one after the other, and with how
// much memory. It returns how many streams come out of them.
func (h *sevenHead) folder() (outs uint64) {
	const most = 32 // of a folder, as the reference program has it
	coders, ins := h.count(), uint64(0)
	if coders == 0 || coders > most {
		h.fail(errSevenHead)
	}
	h.coders = int(coders)
	for range coders {
		flags := h.byte()
		id := h.take(uint64(flags & 0x0f))
		in, out := uint64(1), uint64(1)
		if flags&0x10 != 0 {
			in, out = h.number(), h.number()
		}
		var properties []byte
		if flags&0x20 != 0 {
			properties = h.take(h.number())
		}
		if in > most || out > most {
			h.fail(errSevenHead)
		}
		ins, outs = ins+in, outs+out
		h.method, h.properties = id, properties
		h.locked = h.locked || string(id) == methodAES
		if memory := memoryOf(id, properties); memory > maxWindow {
			h.fail(memoryError(memory))
		}
	}
	if h.err != nil || outs == 0 {
		h.fail(errSevenHead)
		return 0
	}
	for range outs - 1 {
		h.number()
		h.number()
	}
	if ins < outs-1 {
		h.fail(errSevenHead)
		return 0
	}
	if packed := ins - (outs - 1); packed > 1 {
		for range packed {
			h.number()
		}
	}
	return outs
}

// The methods whose memory is said by their properties.
const (
	methodCopy  = "\x00"
	methodLZMA  = "\x03\x01\x01"
	methodLZMA2 = "\x21"
	methodPPMd  = "\x03\x04\x01"
	methodAES   = "\x06\xf1\x07\x01"
)

// memoryOf is how much memory a coder wants, 0 where its properties do not say.
func memoryOf(id, properties []byte) uint64 {
	switch {
	case (string(id) == methodLZMA || string(id) == methodPPMd) && len(properties) >= 5:
		return uint64(binary.LittleEndian.Uint32(properties[1:]))
	case string(id) == methodLZMA2 && len(properties) == 1:
		b := properties[0] & 0x3f
		return (2 | uint64(b&1)) << (b/2 + 11)
	}
	return 0
}

// unpack unpacks a directory that is packed itself, as every program does that: by one coder.
func (h *sevenHead) unpack(r io.ReaderAt, size int64) ([]byte, error) {
	if h.packed > uint64(size) || h.packedSize > uint64(size)-h.packed {
		return nil, damaged(errors.New("its directory points out of it"))
	}
	if h.unpackedSize > maxSevenHead {
		return nil, intake.BoundError{Why: fmt.Sprintf("its directory alone has %s", intake.Bytes(int64(min(h.unpackedSize, 1<<62))))}
	}
	in := io.Reader(io.NewSectionReader(r, int64(32+h.packed), int64(h.packedSize)))
	switch {
	case h.coders == 1 && string(h.method) == methodCopy:
	case h.coders == 1 && string(h.method) == methodLZMA && len(h.properties) == 5:
		// As the reader wants it: the properties, and then the size, of .lzma files.
		head := binary.LittleEndian.AppendUint64(append([]byte{}, h.properties...), h.unpackedSize)
		binary.LittleEndian.PutUint32(head[1:], uint32(max(h.unpackedSize, lzma.MinDictCap)))
		z, err := lzma.NewReader(io.MultiReader(bytes.NewReader(head), in))
		if err != nil {
			return nil, damaged(err)
		}
		in = z
	case h.coders == 1 && string(h.method) == methodLZMA2:
		z, err := lzma.Reader2Config{DictCap: int(max(h.unpackedSize, lzma.MinDictCap))}.NewReader2(in)
		if err != nil {
			return nil, damaged(err)
		}
		in = z
	case h.locked:
		return nil, fmt.Errorf("the archive %w", errEncrypted)
	default:
		return nil, errors.New("its directory is packed in a way that is not looked into; unpack it yourself and take the folder in")
	}
	data, err := io.ReadAll(io.LimitReader(in, int64(h.unpackedSize)))
	if err != nil {
		return nil, damaged(err)
	}
	return data, nil
}
