// Package vet finds mistakes in programs that use Small Pantry, before they run. Its Analyzer serves
// the command smallpantry-vet, go vet -vettool and linters that run analyzers of
// golang.org/x/tools/go/analysis.
//
// It reports:
//
//   - Set of a value that was computed from Get, where Add, Append, Raise or Lower counts what several
//     writers do
//   - a write whose error is dropped
//   - one name declared twice, and names that nearly match, also across packages
//   - a key that the program only reads, only writes, or never uses
//   - a key that is not passed to Declare although others are
//   - a literal name in Put, Entry or Drop that no key declares
//   - a field of a struct that does not survive: unexported, excluded, a func or a channel
//   - a name that suggests a secret, on a key that is not Sealed
//   - Open without Close in main, and Ready with a context that never ends
//   - a write that waits for the disk in a function that draws
//
// With the flag -against, a file of a namespace or the link of a board, it also reports what a new version
// of the program would orphan there: entries that no key declares any more, and members of records that no
// field has, each with the nearest declared name.
//
// Where a fix is certain, the report suggests it. The comment //pantry:meant REASON at the end of a line
// silences its reports.
package vet

import (
	"fmt"
	"go/ast"
	"go/constant"
	"go/types"
	"strings"

	"golang.org/x/tools/go/analysis"
	"golang.org/x/tools/go/analysis/passes/inspect"
	"golang.org/x/tools/go/ast/inspector"
	"golang.org/x/tools/go/types/typeutil"
)

// Analyzer reports mistakes in the use of Small Pantry. It exports facts about declared names, so that
// it sees names that several packages of a program declare.
var Analyzer = &analysis.Analyzer{
	Name:      "pantry",
	Doc:       "reports mistakes in the use of Small Pantry: lost updates, dropped errors, names declared twice or not at all, fields that do not survive",
	Requires:  []*analysis.Analyzer{inspect.Analyzer},
	FactTypes: []analysis.Fact{new(declaredNames)},
	Run:       run,
}

// against is the file or the link of the flag -against.
var against string

func init() {
	Analyzer.Flags.StringVar(&against, "against", "", "a file of a namespace, or the link of a board: report what the program would orphan in it")
}

const (
	devicePath = "github.com/small-pantry/pantry"
	boardPath  = devicePath + "/board"
)

// A checker looks at one package.
type checker struct {
	*analysis.Pass
	in     *inspector.Inspector
	keys   []*key
	fields []declaredName        // of Fields
	uses   map[types.Object]*key // the variables that hold a key
}

func run(pass *analysis.Pass) (any, error) {
	if path := pass.Pkg.Path(); path == devicePath || path == boardPath {
		return nil, nil // they are the library
	}
	if !uses(pass.Pkg) {
		return nil, nil
	}
	c := &checker{Pass: pass, in: pass.ResultOf[inspect.Analyzer].(*inspector.Inspector), uses: map[types.Object]*key{}}
	c.findKeys()
	c.declaredTwice()
	c.notDeclared()
	c.usage()
	if against != "" && c.Pkg.Name() == "main" {
		if err := c.orphans(against); err != nil {
			return nil, err
		}
	}
	for node := range c.in.PreorderSeq((*ast.FuncDecl)(nil)) {
		f := node.(*ast.FuncDecl)
		if f.Body == nil || c.inTest(f) {
			continue
		}
		c.lostUpdates(f)
		c.inMain(f)
		c.drawing(f)
	}
	for node := range c.in.PreorderSeq((*ast.ExprStmt)(nil), (*ast.GoStmt)(nil), (*ast.DeferStmt)(nil)) {
		if !c.inTest(node) {
			c.droppedError(node)
		}
	}
	return nil, nil
}

// uses reports whether a package imports the library.
func uses(pkg *types.Package) bool {
	for _, p := range pkg.Imports() {
		if p.Path() == devicePath || p.Path() == boardPath {
			return true
		}
	}
	return false
}

// inTest reports whether a node is in a file of tests, where dropped errors and odd names are meant.
func (c *checker) inTest(n ast.Node) bool {
	return strings.HasSuffix(c.Fset.Position(n.Pos()).Filename, "_test.go")
}

// called returns the method or function of the library that a call calls: its package, the name of the
// receiver's type ("" for a function), and its name.
func (c *checker) called(call *ast.CallExpr) (path, receiver, name string) {
	f := typeutil.StaticCallee(c.TypesInfo, call)
	if f == nil || f.Pkg() == nil || f.Pkg().Path() != devicePath && f.Pkg().Path() != boardPath {
		return "", "", ""
	}
	if recv := f.Signature().Recv(); recv != nil {
		t := recv.Type()
		if p, ok := t.(*types.Pointer); ok {
			t = p.Elem()
		}
		if named, ok := t.(*types.Named); ok {
			receiver = named.Obj().Name()
		}
	}
	return f.Pkg().Path(), receiver, f.Name()
}

// receiverOf returns the expression before the method of a call.
func receiverOf(call *ast.CallExpr) ast.Expr {
	if s, ok := ast.Unparen(call.Fun).(*ast.SelectorExpr); ok {
		return s.X
	}
	return nil
}

// last returns the last argument of a call, which is the value of a Set on a device and on a board.
func last(call *ast.CallExpr) ast.Expr {
	if len(call.Args) == 0 {
		return nil
	}
	return call.Args[len(call.Args)-1]
}

// same reports whether two expressions are the same chain of names.
func (c *checker) same(a, b ast.Expr) bool {
	switch a := ast.Unparen(a).(type) {
	case *ast.Ident:
		b, ok := ast.Unparen(b).(*ast.Ident)
		return ok && c.TypesInfo.ObjectOf(a) != nil && c.TypesInfo.ObjectOf(a) == c.TypesInfo.ObjectOf(b)
	case *ast.SelectorExpr:
		b, ok := ast.Unparen(b).(*ast.SelectorExpr)
		return ok && a.Sel.Name == b.Sel.Name && c.same(a.X, b.X)
	case *ast.CallExpr: // hour.In(ns)
		b, ok := ast.Unparen(b).(*ast.CallExpr)
		if !ok || len(a.Args) != len(b.Args) || !c.same(a.Fun, b.Fun) {
			return false
		}
		for i := range a.Args {
			if !c.same(a.Args[i], b.Args[i]) {
				return false
			}
		}
		return true
	}
	return false
}

func (c *checker) text(n ast.Node) string {
	p, end := c.Fset.Position(n.Pos()), c.Fset.Position(n.End())
	data, err := c.ReadFile(p.Filename)
	if err != nil || end.Offset > len(data) {
		return ""
	}
	return string(data[p.Offset:end.Offset])
}

func (c *checker) report(at ast.Node, format string, args ...any) {
	c.emit(analysis.Diagnostic{Pos: at.Pos(), End: at.End(), Message: fmt.Sprintf(format, args...)})
}

// emit reports a diagnostic, unless the line has the comment //pantry:meant REASON.
func (c *checker) emit(d analysis.Diagnostic) {
	at := c.Fset.Position(d.Pos)
	for _, f := range c.Files {
		if c.Fset.Position(f.Pos()).Filename != at.Filename {
			continue
		}
		for _, g := range f.Comments {
			for _, comment := range g.List {
				if c.Fset.Position(comment.Pos()).Line == at.Line && strings.HasPrefix(comment.Text, "//pantry:meant ") {
					return
				}
			}
		}
	}
	c.Report(d)
}

// stringOf returns a constant string.
func (c *checker) stringOf(e ast.Expr) (string, bool) {
	v := c.TypesInfo.Types[e].Value
	if v == nil || v.Kind() != constant.String {
		return "", false
	}
	return constant.StringVal(v), true
}
