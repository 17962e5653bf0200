package text

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxShown is how many bytes of one foreign line are ever shown.
const MaxShown = 4096

// Clean makes foreign text (from a log, a manifest, a file name) safe to show:
// terminal control sequences are taken out, other control characters and
// characters that reorder or hide text become a visible mark, bytes that are
// no UTF-8 become U+FFFD, tabs become a blank, and what is longer than
// MaxShown is cut.
func Clean(s string) string {
	if isPlain(s) {
		return s
	}
	s = strings.TrimRight(s, "\r\n")
	var b strings.Builder
	for i := 0; i < len(s); {
		if b.Len() >= MaxShown {
			b.WriteString("…")
			break
		}
		if s[i] == 0x1b {
			i += escapeLength(s[i:])
			continue
		}
		r, size := utf8.DecodeRuneInString(s[i:])
		i += size
		switch {
		case r == '\t':
			b.WriteByte(' ')
		case r == utf8.RuneError || r < 0x20 || r >= 0x7f && r < 0xa0 || hides(r):
			b.WriteRune(utf8.RuneError)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Uncoloured is text without its terminal control sequences, and otherwise as it came.
func Uncoloured(b []byte) []byte {
	if bytes.IndexByte(b, 0x1b) < 0 {
		return b
	}
	out := make([]byte, 0, len(b))
	for s := string(b); s != ""; {
		plain := strings.IndexByte(s, 0x1b)
		if plain < 0 {
			return append(out, s...)
		}
		out = append(out, s[:plain]...)
		s = s[plain:]
		s = s[escapeLength(s):]
	}
	return out
}

// isPlain spares the common case, printable ASCII, a copy.
func isPlain(s string) bool {
	if len(s) > MaxShown {
		return false
	}
	for i := 0; i < len(s); i++ {
		if s[i] < 0x20 || s[i] > 0x7e {
			return false
		}
	}
	return true
}

// Hides tells whether a text has characters in it that change the direction of others, or
// that cannot be seen.
func Hides(s string) bool { return strings.ContainsFunc(s, hides) }

// hides tells characters that change the direction of the text around them, or
// that cannot be seen.
func hides(r rune) bool {
	switch {
	case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r >= 0x200b && r <= 0x200f, r == 0xfeff,
		r == 0x2028, r == 0x2029, r == 0x00ad, r == 0x061c, r == 0x180e, r >= 0x2060 && r <= 0x2064, r >= 0xe0000 && r <= 0xe0fff:
		return true
	}
	return unicode.Is(unicode.Cc, r)
}

// escapeLength is the length of the control sequence that s starts with: an
// ESC with what belongs to it (ECMA-48: CSI with its parameters and final byte,
// the string controls up to their terminator, or a single final byte).
func escapeLength(s string) int {
	if len(s) < 2 {
		return len(s)
	}
	switch s[1] {
	case '[':
		return csiLength(s)
	case ']', 'P', 'X', '^', '_':
		return controlStringLength(s)
	}
	i := 1
	for i < len(s) && s[i] >= 0x20 && s[i] <= 0x2f {
		i++
	}
	if i < len(s) && s[i] >= 0x30 && s[i] <= 0x7e {
		i++
	}
	return i
}

// csiLength is the length of ESC [, its parameters and its final byte.
func csiLength(s string) int {
	for i := 2; i < len(s); i++ {
		switch {
		case s[i] >= 0x40 && s[i] <= 0x7e:
			return i + 1
		case s[i] < 0x20 || s[i] > 0x7e:
			return i
		}
	}
	return len(s)
}

// controlStringLength is the length of a control string up to its terminator, BEL or
// ESC \; another escape ends it too.
func controlStringLength(s string) int {
	for i := 2; i < len(s); i++ {
		switch {
		case s[i] == 0x07:
			return i + 1
		case s[i] == 0x1b && i+1 < len(s) && s[i+1] == '\\':
			return i + 2
		case s[i] == 0x1b:
			return i
		}
	}
	return len(s)
}
