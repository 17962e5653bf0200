package check_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/check"
	"initium/internal/insist"
)

// Every code that appears in the sources of check, and those that the line-up
// gives its problems, is explained; and nothing is explained that nobody says.
func TestEveryCodeIsExplained(t *testing.T) {
	said := map[check.Code]bool{}
	capital := regexp.MustCompile(`([a-z])([A-Z])`)
	form := regexp.MustCompile(`^"[a-z]+(-[a-z]+)+"$`)
	for _, dir := range []string{".", "../lineup"} {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		insist.OK(t, err)
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") || strings.HasSuffix(name, "explain.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			insist.OK(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.Ident: // such as CodeNeedLate
					if word, ok := strings.CutPrefix(n.Name, "Code"); ok && word != "" {
						said[check.Code(strings.ToLower(capital.ReplaceAllString(word, "$1-$2")))] = true
					}
				case *ast.BasicLit: // of the line-up
					if n.Kind == token.STRING && form.MatchString(n.Value) && dir != "." {
						said[check.Code(strings.Trim(n.Value, `"`))] = true
					}
				}
				return true
			})
		}
	}
	codes := check.Codes()
	insist.That(t, len(codes) >= 40, "only %d kinds of findings", len(codes))
	for code := range said {
		insist.That(t, slices.Contains(codes, code), "%s is not explained", code)
	}
	for _, code := range codes {
		e, _ := check.Explain(code)
		insist.That(t, said[code], "%s is explained, and never said", code)
		for _, s := range []string{e.What, e.Shows, e.Do} {
			insist.That(t, strings.HasSuffix(s, "."), "%s: %q is no sentence", code, s)
		}
	}
}
