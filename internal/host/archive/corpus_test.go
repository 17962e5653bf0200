package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/flate"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"initium/internal/insist"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// entry is one entry of an archive that a test makes.
type entry struct {
	name   string
	data   string
	mode   fs.FileMode // 0 for a plain file
	target string
	kind   byte // of tar: its type flag, when it is none that mode says
}

func file(name, data string) entry { return entry{name: name, data: data} }

// zipOf makes a zip archive. Names are written as they are, whatever they are.
func zipOf(entries ...entry) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		mode := e.mode
		if mode == 0 {
			mode = 0o644
		}
		h.SetMode(mode)
		data := e.data
		if e.target != "" {
			data = e.target
		}
		if strings.HasSuffix(e.name, "/") {
			h.Method, data = zip.Store, ""
		}
		// Raw, so that the writer has no say in it.
		var packed bytes.Buffer
		if h.Method == zip.Deflate {
			f, _ := flate.NewWriter(&packed, flate.BestCompression)
			io.WriteString(f, data)
			f.Close()
		}
		h.CRC32, h.UncompressedSize64, h.CompressedSize64 = crc32.ChecksumIEEE([]byte(data)), uint64(len(data)), uint64(packed.Len())
		raw, err := w.CreateRaw(h)
		if err != nil {
			panic(err)
		}
		raw.Write(packed.Bytes())
	}
	w.Close()
	return out.Bytes()
}

func tarOf(entries ...entry) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Size: int64(len(e.data)), Mode: 0o644, Typeflag: tar.TypeReg, Linkname: e.target, Format: tar.FormatPAX}
		switch {
		case e.kind != 0:
			h.Typeflag = e.kind
		case e.mode&fs.ModeSymlink != 0:
			h.Typeflag = tar.TypeSymlink
		case strings.HasSuffix(e.name, "/"):
			h.Typeflag = tar.TypeDir
		}
		if err := w.WriteHeader(h); err != nil { // what this writer will not write is written by hand
			out.Write(ustar(e))
			w = tar.NewWriter(&out)
			continue
		}
		io.WriteString(w, e.data)
		w.Flush()
	}
	w.Close()
	return out.Bytes()
}

// ustar is a plain header with its bytes, for names that no writer takes.
func ustar(e entry) []byte {
	b := make([]byte, 512)
	copy(b, e.name)
	copy(b[100:], "0000644\x000000000\x000000000\x00")
	copy(b[124:], fmt.Sprintf("%011o\x00%011o\x00", len(e.data), 0))
	b[156] = '0'
	copy(b[157:], e.target)
	copy(b[257:], "ustar\x0000")
	copy(b[148:], "        ")
	sum := 0
	for _, c := range b {
		sum += int(c)
	}
	copy(b[148:], fmt.Sprintf("%06o\x00 ", sum))
	data := append([]byte(e.data), make([]byte, (512-len(e.data)%512)%512)...)
	return append(b, data...)
}

func gzipOf(data []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Write(data)
	w.Close()
	return out.Bytes()
}

func zstdOf(data []byte) []byte {
	var out bytes.Buffer
	w, _ := zstd.NewWriter(&out)
	w.Write(data)
	w.Close()
	return out.Bytes()
}

func xzOf(data []byte) []byte {
	var out bytes.Buffer
	w, _ := xz.NewWriter(&out)
	w.Write(data)
	w.Close()
	return out.Bytes()
}

// rarOf makes a rar archive of version 5 in which everything is stored as it is.
func rarOf(entries ...entry) []byte {
	number := func(b []byte, n uint64) []byte { return binary.AppendUvarint(b, n) }
	block := func(fields []byte, data []byte) []byte {
		sized := append(number(nil, uint64(len(fields))), fields...)
		out := binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(sized))
		return append(append(out, sized...), data...)
	}
	out := []byte("Rar!\x1a\x07\x01\x00")
	out = append(out, block([]byte{1, 0, 0}, nil)...) // main header: type, flags, archive flags
	for _, e := range entries {
		name, folder := strings.CutSuffix(e.name, "/")
		var extra []byte
		if e.target != "" { // record 5, redirection: type 1 is a Unix symbolic link, 2 one of Windows, 4 a hard link
			record := number(number([]byte{5, max(e.kind, 1)}, 0), uint64(len(e.target)))
			record = append(record, e.target...)
			extra = append(number(nil, uint64(len(record))), record...)
		}
		head := number(nil, 2)
		flags := uint64(2)
		if extra != nil {
			flags |= 1
		}
		head = number(head, flags)
		if extra != nil {
			head = number(head, uint64(len(extra)))
		}
		data := []byte(e.data)
		fileFlags, mode := uint64(4), uint64(0o100644)
		if folder {
			fileFlags, mode, data = 5, 0o040755, nil
		}
		if e.target != "" && e.kind == 0 {
			mode = 0o120777
		}
		if e.kind == unsized {
			fileFlags |= 8
		}
		head = number(head, uint64(len(data)))
		head = number(head, fileFlags)
		head = number(head, uint64(len(data)))
		head = number(head, mode)
		head = binary.LittleEndian.AppendUint32(head, crc32.ChecksumIEEE(data))
		head = number(head, 0) // stored
		head = number(head, 1) // by a Unix system
		head = number(head, uint64(len(name)))
		head = append(append(head, name...), extra...)
		out = append(out, block(head, data)...)
	}
	return append(out, block([]byte{5, 0, 0}, nil)...) // end
}

// sevenOf is a 7z archive whose directory is made of some bytes, behind others.
func sevenOf(packed, directory []byte) []byte {
	start := binary.LittleEndian.AppendUint64(nil, uint64(len(packed)))
	start = binary.LittleEndian.AppendUint64(start, uint64(len(directory)))
	start = binary.LittleEndian.AppendUint32(start, crc32.ChecksumIEEE(directory))
	out := binary.LittleEndian.AppendUint32([]byte("7z\xbc\xaf\x27\x1c\x00\x04"), crc32.ChecksumIEEE(start))
	return slices.Concat(out, start, packed, directory)
}

// unsized is the kind of an entry of a rar archive that does not say how large it is.
const unsized = 99

// zipSaying is a zip archive whose directory lies about a file.
func zipSaying(t *testing.T, change func(h *zip.FileHeader), data string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	h := &zip.FileHeader{Name: "mod/mod.toml", Method: zip.Store}
	h.CRC32, h.UncompressedSize64, h.CompressedSize64 = crc32.ChecksumIEEE([]byte(data)), uint64(len(data)), uint64(len(data))
	change(h)
	raw, err := w.CreateRaw(h)
	insist.OK(t, err)
	io.WriteString(raw, data)
	w.Close()
	return out.Bytes()
}

// ending is the end of a zip archive with any numbers in it.
func ending(entries uint16, length, offset uint32) []byte {
	b := []byte("PK\x05\x06\x00\x00\x00\x00")
	b = binary.LittleEndian.AppendUint16(b, entries)
	b = binary.LittleEndian.AppendUint16(b, entries)
	b = binary.LittleEndian.AppendUint32(b, length)
	b = binary.LittleEndian.AppendUint32(b, offset)
	return append(b, 0, 0)
}
