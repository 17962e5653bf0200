package text_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

// What a string in double quotes means is what the standard library reads in it, with
// halves of pairs at every place.
func TestEscapesMeanTheSame(t *testing.T) {
	parts := []string{"a", "é", `\n`, `\\`, `\"`, `\/`, `\u0041`, `\u00e9`, `\ud83d\ude00`, `\ud83d`, `\udc00`, `\ud800\udc00`, `\udbff\udfff`, `\ud800\udbff`, `\ud800\ue000`, `\udc00\udc00`, `\udfff`, `\ue000`, "🚲", " "}
	r := rand.New(rand.NewPCG(3, 9))
	for range 3000 {
		var b strings.Builder
		for range r.IntN(5) {
			b.WriteString(parts[r.IntN(len(parts))])
		}
		quoted := `"` + b.String() + `"`
		var want string
		insist.OK(t, json.Unmarshal([]byte(quoted), &want))
		doc := []byte(`{"k": ` + quoted + `}`)
		node, fault := text.ReadJSON(doc)
		insist.Need(t, fault == nil, "%s: %v", doc, fault)
		if got := node.Get("k"); got == nil || got.Piece.Value != want || string(got.In(doc)) != quoted {
			t.Fatalf("%s is read as %q, want %q", doc, got.Piece.Value, want)
		}
	}
	// What is no escape stays what it is, to the last byte of the string.
	for _, odd := range []string{`\u12`, `\u123`, `\q`, `\u12g4`, `\U0000`, `\x4`} {
		for _, doc := range []string{`k = "` + odd + `"`, `k = "a` + odd + `z"`} {
			if node, fault := text.ReadTOML([]byte(doc)); fault == nil {
				t.Errorf("%s is read as %q", doc, node.Get("k").Piece.Value)
			}
			_, fault := text.ReadJSON([]byte(fmt.Sprintf(`{"k": %s}`, strings.TrimPrefix(doc, "k = "))))
			insist.That(t, fault != nil, "%s is JSON", doc)
		}
	}
}

func TestIsBinary(t *testing.T) {
	for raw, want := range map[string]bool{"a\nb": false, "": false, "a\x00b": true, "SQLite format 3\x00\x10\x00": true, "\xff\xfea\x00b\x00": false, "\xfe\xff\x00a": false, "\xe9": false} {
		insist.Same(t, fmt.Sprintf("%q is binary", raw), text.IsBinary([]byte(raw)), want)
	}
}
