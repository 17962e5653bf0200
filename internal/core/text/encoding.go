package text

import (
	"bytes"
	"encoding/binary"
	"unicode/utf16"
	"unicode/utf8"
)

// Encoding is how the characters of a file are written.
type Encoding int

// Files are read as they are, or as UTF-16 with its byte-order mark.
const (
	EncodingPlain Encoding = iota
	EncodingUTF16LE
	EncodingUTF16BE
)

func (e Encoding) order() binary.ByteOrder {
	if e == EncodingUTF16BE {
		return binary.BigEndian
	}
	return binary.LittleEndian
}

// Decode turns a UTF-16 file with a byte-order mark into UTF-8, with the mark.
// What is no such file, or would not come back the same, is returned as it is.
func Decode(data []byte) ([]byte, Encoding) {
	e := EncodingPlain
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		e = EncodingUTF16LE
	case bytes.HasPrefix(data, []byte("\xfe\xff")):
		e = EncodingUTF16BE
	default:
		return data, EncodingPlain
	}
	units := make([]uint16, len(data)/2)
	for i := range units {
		units[i] = e.order().Uint16(data[2*i:])
	}
	doc := make([]byte, 0, len(data))
	for _, r := range utf16.Decode(units) {
		doc = utf8.AppendRune(doc, r)
	}
	if !bytes.Equal(Encode(doc, e), data) {
		return data, EncodingPlain
	}
	return doc, e
}

// Encode is the way back from Decode.
func Encode(doc []byte, e Encoding) []byte {
	if e == EncodingPlain {
		return doc
	}
	units := utf16.Encode([]rune(string(doc)))
	data := make([]byte, 2*len(units))
	for i, u := range units {
		e.order().PutUint16(data[2*i:], u)
	}
	return data
}

// IsBinary tells a file that holds no text in any encoding: there are zero bytes in it, and not as UTF-16 has them.
func IsBinary(raw []byte) bool {
	if bytes.IndexByte(raw, 0) < 0 {
		return false
	}
	doc, _ := Decode(raw)
	return NotText(doc) != nil
}
