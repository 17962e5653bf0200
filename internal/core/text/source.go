package text

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"github.com/yuin/gopher-lua/parse"
)

// justInTime are numbers that only one kind of Lua knows; files with them are
// not judged.
var justInTime = regexp.MustCompile(`(?i)\b(0x[0-9a-f]+|[0-9]+)(u?ll|i)\b`)

// CheckLua reads a Lua script (Lua 5.1, Reference Manual 8) and says where its
// first mistake is; nil when it has none. What it would do when run is not known.
func CheckLua(data []byte) *Fault {
	if bytes.HasPrefix(data, []byte("#")) { // the first line of a script may be for the shell
		data = append([]byte("--"), data...)
	}
	if bytes.HasPrefix(data, []byte("\x1b")) || justInTime.Match(data) {
		return nil
	}
	_, err := parse.Parse(bytes.NewReader(data), "")
	var wrong *parse.Error
	if !errors.As(err, &wrong) {
		return nil
	}
	if wrong.Pos.Line <= 0 { // at the end of the file
		return FaultAt(data, len(data), "%s at the end", Clean(wrong.Message))
	}
	return &Fault{Line: wrong.Pos.Line, Column: max(wrong.Pos.Column, 1), Message: fmt.Sprintf("%s near %q", Clean(wrong.Message), Clean(wrong.Token))}
}

// CheckWords reads a script of words on lines and says where the first line is
// that begins with a word that the family does not know; nil when there is none.
func CheckWords(data []byte, style ScriptStyle, known []string) *Fault {
	for _, s := range Script(data, style) {
		if s.Fault != nil {
			return s.Fault
		}
		if len(s.Words) > 0 && !slices.Contains(known, s.Words[0].Value) {
			return FaultAt(data, s.Words[0].Start, "unknown word %q", Clean(s.Words[0].Value))
		}
	}
	return nil
}
