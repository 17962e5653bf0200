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
)

// Every code that appears in the sources of check, and those that the line-up
// gives its problems, is explained; and nothing is explained that nobody says.
func TestEveryCodeIsExplained(t *testing.T) {
	said := map[string]bool{"server-unfit": true, "loader-unfit": true, "runtime-unfit": true} // put together from parts
	form := regexp.MustCompile(`^"[a-z]+(-[a-z]+)+"$`)
	for _, dir := range []string{".", "../lineup"} {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		must(t, err)
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") || strings.HasSuffix(name, "explain.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			must(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				if word := codeOf(n); word != "" {
					said[word] = true
				}
				if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING && form.MatchString(lit.Value) {
					said[strings.Trim(lit.Value, `"`)] = true
				}
				return true
			})
		}
	}
	codes := check.Codes()
	if len(codes) < 40 {
		t.Errorf("only %d kinds of findings", len(codes))
	}
	for code := range said {
		if !slices.Contains(codes, code) {
			t.Errorf("%s is not explained", code)
		}
	}
	for _, code := range codes {
		e, _ := check.Explain(code)
		if !said[code] {
			t.Errorf("%s is explained, and never said", code)
		}
		for _, s := range []string{e.What, e.Shows, e.Do} {
			if !strings.HasSuffix(s, ".") {
				t.Errorf("%s: %q is no sentence", code, s)
			}
		}
	}
}

// codeOf is the code that a node of the source gives to a finding, for codes of one
// word: in c.at("code", …), or as the field Code.
func codeOf(n ast.Node) string {
	var value ast.Expr
	switch n := n.(type) {
	case *ast.KeyValueExpr:
		if key, ok := n.Key.(*ast.Ident); ok && key.Name == "Code" {
			value = n.Value
		}
	case *ast.CallExpr:
		if f, ok := n.Fun.(*ast.SelectorExpr); ok && f.Sel.Name == "at" && len(n.Args) > 0 {
			value = n.Args[0]
		}
	}
	if lit, ok := value.(*ast.BasicLit); ok && lit.Kind == token.STRING {
		return strings.Trim(lit.Value, `"`)
	}
	return ""
}
