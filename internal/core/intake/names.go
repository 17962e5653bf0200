// Package intake looks at what an operator has got hold of: which mods are in it,
// under which names they belong on a server, what goes where, and what would be
// overlapped. It computes; reading archives and writing files is the host's work.
package intake

import (
	"fmt"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"initium/internal/core/text"
)

// Bounds of names, in bytes: what Linux file systems can hold.
const (
	maxElement = 255
	maxPath    = 4000
	maxDepth   = 64 // folders within each other
)

// EntryPath turns the name of an entry, as an archive writes it, into a path
// below the archive's root, with slashes. Names that would lead out of the root,
// that a file system cannot hold or that mean a device somewhere are refused with
// an error that says why. An empty path means the root itself.
func EntryPath(raw string) (string, error) {
	refuse := func(why string) (string, error) {
		return "", fmt.Errorf("%q %s", text.Clean(shorten(raw)), why)
	}
	if !utf8.ValidString(raw) {
		return refuse("is not written in UTF-8")
	}
	if len(raw) > maxPath {
		return refuse(fmt.Sprintf("is longer than the %d bytes that a path may have", maxPath))
	}
	for _, r := range raw {
		if unicode.Is(unicode.Cc, r) || unicode.Is(unicode.Bidi_Control, r) || r == 0x2028 || r == 0x2029 {
			return refuse("holds a control character")
		}
	}
	if text.Hides(raw) {
		return refuse("has characters in it that cannot be seen")
	}
	name := strings.ReplaceAll(raw, `\`, "/")
	if strings.HasPrefix(name, "/") {
		return refuse("is an absolute path")
	}
	if len(name) >= 2 && name[1] == ':' && (name[0]|0x20 >= 'a' && name[0]|0x20 <= 'z') {
		return refuse("begins with a drive letter")
	}
	elements := strings.Split(name, "/")
	for _, e := range elements {
		switch {
		case e == "..":
			return refuse("climbs out of its folder")
		case len(e) > maxElement:
			return refuse(fmt.Sprintf("has a part longer than the %d bytes that a file name may have", maxElement))
		case isDevice(e):
			return refuse("is the name of a device")
		}
	}
	if len(elements) > maxDepth {
		return refuse(fmt.Sprintf("lies more than %d folders deep", maxDepth))
	}
	clean := path.Clean(name)
	if clean == "." {
		return "", nil
	}
	return clean, nil
}

// shorten keeps a hostile name from filling a message.
func shorten(s string) string {
	const most = 120
	if len(s) <= most {
		return s
	}
	cut := most
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + "…"
}

// isDevice tells the names that mean a device on Windows, whatever their suffix:
// a server that is moved there, or a player who unpacks the same archive, would
// open a port instead of a file.
func isDevice(element string) bool {
	base, _, _ := strings.Cut(strings.ToUpper(element), ".")
	base = strings.TrimRight(base, " ")
	switch base {
	case "CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$":
		return true
	}
	if len(base) == 4 && (strings.HasPrefix(base, "COM") || strings.HasPrefix(base, "LPT")) {
		return base[3] >= '1' && base[3] <= '9'
	}
	return false
}

// folded is what two names have in common that differ by letter case or Unicode
// form only.
func folded(name string) string {
	return norm.NFC.String(strings.ToLower(strings.ToUpper(norm.NFC.String(name))))
}
