package main

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"
)

// The kinds of faults. A turned check of an error is not among them: it falls over at
// once and would only flatter the figure.
const (
	turned    = "turned"    // a condition means its opposite
	part      = "part"      // a part of a condition is left out
	boundary  = "boundary"  // a comparison takes its boundary in, or leaves it out
	sum       = "sum"       // plus for minus, or minus for plus
	callOut   = "call out"  // a call is left out; one that only returns an error returns none
	assignOut = "set out"   // an assignment is left out
	jumpOut   = "jump out"  // a break or continue is left out
	helper    = "mutfaults" // the name under which instrumented files import the switch
)

// fault is one small fault that can be put into the code.
type fault struct {
	number        int
	pkg, file, fn string // the file from the module's root
	line          int
	kind, code    string
	outcome       outcome
	noticed       string // the test that noticed it
}

func (f *fault) String() string {
	return fmt.Sprintf("%s:%d %s: %s: %s", f.file, f.line, f.fn, f.kind, f.code)
}

// source is one file with all its faults in it.
type source struct {
	path string // of the file that it stands for
	data []byte
}

// findFaults finds all faults that can be put into packages, and writes the files
// that hold them.
func findFaults(patterns []string) ([]*fault, []source, error) {
	loaded, err := packages.Load(&packages.Config{
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo,
	}, patterns...)
	if err != nil {
		return nil, nil, err
	}
	root, err := os.Getwd()
	if err != nil {
		return nil, nil, err
	}
	var faults []*fault
	var sources []source
	for _, p := range loaded {
		if len(p.Errors) > 0 {
			return nil, nil, p.Errors[0]
		}
		for i, file := range p.Syntax {
			path := p.CompiledGoFiles[i]
			data, err := os.ReadFile(path)
			if err != nil {
				return nil, nil, err
			}
			rel, err := filepath.Rel(root, path)
			if err != nil {
				return nil, nil, err
			}
			w := &writer{fset: p.Fset, info: p.TypesInfo, data: data, pkg: p.PkgPath, file: rel, next: len(faults)}
			for _, d := range file.Decls {
				if fn, ok := d.(*ast.FuncDecl); ok && fn.Body != nil {
					w.fn = nameOf(fn)
					w.function(fn.Body)
				}
			}
			if len(w.faults) == 0 {
				continue
			}
			faults = append(faults, w.faults...)
			end := w.offset(file.Name.End())
			w.insertions = append(w.insertions, insertion{at: end, to: end, text: fmt.Sprintf("; import %s %q", helper, "initium/internal/"+helper)})
			sources = append(sources, source{path, w.result()})
		}
	}
	return faults, sources, nil
}

func nameOf(fn *ast.FuncDecl) string {
	if fn.Recv == nil || len(fn.Recv.List) == 0 {
		return fn.Name.Name
	}
	of := fn.Recv.List[0].Type
	if star, ok := of.(*ast.StarExpr); ok {
		of = star.X
	}
	if index, ok := of.(*ast.IndexExpr); ok {
		of = index.X
	}
	return types.ExprString(of) + "." + fn.Name.Name
}

// insertion is text that comes in at a place, and may take the place of what is there.
type insertion struct {
	at, to int
	side   int // -1 closes a node, 1 opens one
	length int // of the node
	text   string
}

// before tells which of two insertions at the same place comes first: what closes before
// what opens, the inner close before the outer, the outer opening before the inner.
func (a insertion) before(b insertion) int {
	return cmp.Or(a.at-b.at, a.side-b.side, -a.side*(a.length-b.length))
}

// writer puts the faults into one file.
type writer struct {
	fset          *token.FileSet
	info          *types.Info
	data          []byte
	pkg, file, fn string
	next          int
	faults        []*fault
	insertions    []insertion
}

// result is the file with all insertions. Nodes of the same length were wrapped from the
// outside in; so their closing texts come in the other order.
func (w *writer) result() []byte {
	var closing, other []insertion
	for _, i := range w.insertions {
		if i.side < 0 {
			closing = append(closing, i)
		} else {
			other = append(other, i)
		}
	}
	slices.Reverse(closing)
	all := append(closing, other...)
	slices.SortStableFunc(all, insertion.before)
	var out []byte
	from := 0
	for _, i := range all {
		out = append(out, w.data[from:i.at]...)
		out = append(out, i.text...)
		from = i.to
	}
	return append(out, w.data[from:]...)
}

// fault notes a fault and gives its number.
func (w *writer) fault(n ast.Node, kind string) int {
	code := strings.Join(strings.Fields(string(w.data[w.offset(n.Pos()):w.offset(n.End())])), " ")
	if r := []rune(code); len(r) > 100 {
		code = string(r[:100]) + "…"
	}
	number := w.next + len(w.faults)
	w.faults = append(w.faults, &fault{number: number, pkg: w.pkg, file: w.file, fn: w.fn, line: w.fset.Position(n.Pos()).Line, kind: kind, code: code})
	return number
}

func (w *writer) offset(p token.Pos) int { return w.fset.Position(p).Offset }

// around puts text before and after a node.
func (w *writer) around(n ast.Node, before, after string) {
	from, to := w.offset(n.Pos()), w.offset(n.End())
	w.insertions = append(w.insertions, insertion{from, from, 1, to - from, before}, insertion{to, to, -1, to - from, after})
}

// function puts all faults into one function.
func (w *writer) function(body *ast.BlockStmt) {
	ast.Inspect(body, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BlockStmt:
			w.statements(n.List)
		case *ast.CaseClause:
			w.statements(n.Body)
		case *ast.CommClause:
			w.statements(n.Body)
		case *ast.IfStmt:
			w.condition(n.Cond)
		case *ast.ForStmt:
			if n.Cond != nil {
				w.condition(n.Cond)
			}
		case *ast.SwitchStmt:
			w.cases(n)
		case *ast.ReturnStmt:
			w.results(n.Results)
		case *ast.AssignStmt:
			if len(n.Rhs) == 1 {
				w.errorCall(n.Rhs[0])
			}
		case *ast.BinaryExpr:
			w.binary(n)
		}
		return true
	})
}

// cases turns the conditions of a switch without a value.
func (w *writer) cases(n *ast.SwitchStmt) {
	if n.Tag != nil {
		return
	}
	for _, c := range n.Body.List {
		for _, e := range c.(*ast.CaseClause).List {
			w.condition(e)
		}
	}
}

// results turns what is returned of conditions, and leaves a call out whose error is all
// that is returned.
func (w *writer) results(list []ast.Expr) {
	for _, e := range list {
		if b, ok := ast.Unparen(e).(*ast.BinaryExpr); ok && w.isBool(b) {
			w.condition(e)
		}
	}
	if len(list) == 1 {
		w.errorCall(list[0])
	}
}

// condition turns a condition, unless it is one of several parts, which are faults
// of their own.
func (w *writer) condition(e ast.Expr) {
	if b, ok := ast.Unparen(e).(*ast.BinaryExpr); ok && (b.Op == token.LAND || b.Op == token.LOR) {
		return
	}
	if w.isBool(e) && !w.isErrorCheck(e) {
		w.around(e, fmt.Sprintf("%s.On(%d) != (", helper, w.fault(e, turned)), ")")
	}
}

func (w *writer) isBool(e ast.Expr) bool {
	tv := w.info.Types[e]
	return tv.Value == nil && tv.Type != nil && (types.Identical(tv.Type, types.Typ[types.Bool]) || types.Identical(tv.Type, types.Typ[types.UntypedBool]))
}

func (w *writer) isErrorCheck(e ast.Expr) bool {
	b, ok := ast.Unparen(e).(*ast.BinaryExpr)
	return ok && (b.Op == token.NEQ || b.Op == token.EQL) && (w.isError(b.X) || w.isError(b.Y))
}

var errorType = types.Universe.Lookup("error").Type()

func (w *writer) isError(e ast.Expr) bool {
	t := w.info.Types[e].Type
	return t != nil && types.Identical(t, errorType)
}

func (w *writer) binary(b *ast.BinaryExpr) {
	switch b.Op {
	case token.LAND, token.LOR:
		for _, e := range []ast.Expr{b.X, b.Y} {
			inner, ok := ast.Unparen(e).(*ast.BinaryExpr)
			if ok && (inner.Op == token.LAND || inner.Op == token.LOR) || !w.isBool(e) || w.isErrorCheck(e) {
				continue
			}
			if n := w.fault(e, part); b.Op == token.LAND {
				w.around(e, fmt.Sprintf("(%s.On(%d) || (", helper, n), "))")
			} else {
				w.around(e, fmt.Sprintf("(!%s.On(%d) && (", helper, n), "))")
			}
		}
	case token.LSS, token.LEQ, token.GTR, token.GEQ:
		name := map[token.Token]string{token.LSS: "Less", token.LEQ: "LessOrEqual", token.GTR: "More", token.GEQ: "MoreOrEqual"}[b.Op]
		w.operator(b, boundary, name)
	case token.ADD, token.SUB:
		basic, ok := w.info.Types[b].Type.Underlying().(*types.Basic)
		if ok && basic.Info()&types.IsInteger != 0 && w.info.Types[b].Value == nil {
			w.operator(b, sum, map[token.Token]string{token.ADD: "Plus", token.SUB: "Minus"}[b.Op])
		}
	}
}

// operator makes a call of an operator. Operands of which one has no type of its own
// are left alone where Go would not find it.
func (w *writer) operator(b *ast.BinaryExpr, kind, name string) {
	x, y := w.info.Types[b.X], w.info.Types[b.Y]
	if w.info.Types[b].Value != nil || x.Value != nil && y.Value != nil || x.Type == nil || y.Type == nil {
		return
	}
	if basic, ok := x.Type.(*types.Basic); ok && basic.Info()&types.IsUntyped == 0 {
		name += "[" + basic.Name() + "]" // Go would not find it from 1 << n
	}
	w.around(b, fmt.Sprintf("%s.%s(%d, ", helper, name, w.fault(b, kind)), ")")
	at := w.offset(b.OpPos)
	w.insertions = append(w.insertions, insertion{at: at, to: at + len(b.Op.String()), text: ","})
}

// errorCall leaves out a call that only returns an error.
func (w *writer) errorCall(e ast.Expr) {
	call, ok := ast.Unparen(e).(*ast.CallExpr)
	if !ok || !w.isError(call) || w.info.Types[call.Fun].IsType() {
		return
	}
	switch name := types.ExprString(call.Fun); {
	case strings.HasPrefix(name, "errors."), name == "fmt.Errorf", strings.HasSuffix(name, ".Err"), strings.HasSuffix(name, ".Close"), strings.HasSuffix(name, ".Unwrap"):
		return
	}
	w.around(call, fmt.Sprintf("%s.Call(%d, func() error { return ", helper, w.fault(call, callOut)), " })")
}

// statements leaves out single statements.
func (w *writer) statements(list []ast.Stmt) {
	for _, s := range list {
		kind := ""
		switch s := s.(type) {
		case *ast.ExprStmt:
			if call, ok := s.X.(*ast.CallExpr); ok && !w.isBuiltin(call, "panic") {
				kind = callOut
			}
		case *ast.GoStmt:
			kind = callOut
		case *ast.DeferStmt:
			// What is not closed is a leak that the collector mends, not a fault that shows.
			switch name := types.ExprString(s.Call.Fun); {
			case strings.HasSuffix(name, "Close"), strings.HasSuffix(name, "close"), name == "cancel", strings.HasSuffix(name, "Stop"):
			default:
				kind = callOut
			}
		case *ast.AssignStmt:
			blank := !slices.ContainsFunc(s.Lhs, func(e ast.Expr) bool { id, ok := e.(*ast.Ident); return !ok || id.Name != "_" })
			if s.Tok != token.DEFINE && !(len(s.Rhs) == 1 && w.isError(s.Rhs[0])) && !blank {
				kind = assignOut
			}
		case *ast.IncDecStmt:
			kind = assignOut
		case *ast.BranchStmt:
			if s.Tok == token.BREAK || s.Tok == token.CONTINUE {
				kind = jumpOut
			}
		}
		if kind != "" {
			w.around(s, fmt.Sprintf("if !%s.On(%d) { ", helper, w.fault(s, kind)), " }")
		}
	}
}

func (w *writer) isBuiltin(call *ast.CallExpr, name string) bool {
	id, ok := call.Fun.(*ast.Ident)
	if !ok || id.Name != name {
		return false
	}
	_, ok = w.info.Uses[id].(*types.Builtin)
	return ok
}

// choose takes a random sample of the faults that fit.
func choose(faults []*fault, at string, count int, seed uint64) []*fault {
	var fit []*fault
	for _, f := range faults {
		if slices.ContainsFunc(strings.Split(at, ","), func(part string) bool { return strings.Contains(f.String(), part) }) {
			fit = append(fit, f)
		}
	}
	r := rand.New(rand.NewPCG(seed, 0))
	r.Shuffle(len(fit), func(i, j int) { fit[i], fit[j] = fit[j], fit[i] })
	return fit[:min(count, len(fit))]
}
