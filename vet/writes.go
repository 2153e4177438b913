package vet

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"slices"
	"strings"

	"golang.org/x/tools/go/analysis"
	"golang.org/x/tools/go/types/typeutil"
)

// isSet reports whether a call is a Set of a variable on a device or a board.
func (c *checker) isSet(call *ast.CallExpr) bool {
	_, receiver, name := c.called(call)
	return receiver == "Var" && name == "Set"
}

// getOf returns the variable of a Get, if the expression is one: v.Get(), or a name that was assigned
// v.Get() before.
func (c *checker) getOf(e ast.Expr, assigned map[types.Object]ast.Expr) ast.Expr {
	switch e := ast.Unparen(e).(type) {
	case *ast.CallExpr:
		if _, receiver, name := c.called(e); receiver == "Var" && name == "Get" {
			return receiverOf(e)
		}
	case *ast.Ident:
		return assigned[c.TypesInfo.ObjectOf(e)]
	}
	return nil
}

// lostUpdates reports values that are read, changed and set again, so that what another writer does in
// between is lost.
func (c *checker) lostUpdates(f *ast.FuncDecl) {
	assigned := map[types.Object]ast.Expr{}
	ast.Inspect(f.Body, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.AssignStmt:
			for i, v := range n.Rhs {
				if i >= len(n.Lhs) || len(n.Lhs) != len(n.Rhs) {
					continue
				}
				if id, ok := n.Lhs[i].(*ast.Ident); ok {
					if of := c.getOf(v, nil); of != nil {
						assigned[c.TypesInfo.ObjectOf(id)] = of
					}
				}
			}
		case *ast.IfStmt:
			c.raise(n, assigned)
		case *ast.CallExpr:
			if c.isSet(n) {
				c.computed(n, assigned)
			}
		}
		return true
	})
}

// computed reports Set(v.Get()+n) and Set(append(v.Get(), x)).
func (c *checker) computed(set *ast.CallExpr, assigned map[types.Object]ast.Expr) {
	v := receiverOf(set)
	mine := func(e ast.Expr) bool {
		of := c.getOf(e, assigned)
		return of != nil && c.same(of, v)
	}
	switch x := ast.Unparen(last(set)).(type) {
	case *ast.BinaryExpr:
		if x.Op != token.ADD && x.Op != token.SUB || !mine(x.X) && !(x.Op == token.ADD && mine(x.Y)) {
			return
		}
		if t, ok := c.TypesInfo.TypeOf(x).Underlying().(*types.Basic); !ok || t.Info()&types.IsNumeric == 0 {
			return
		}
		n := x.Y
		if !mine(x.X) {
			n = x.X
		}
		amount := c.text(n)
		if x.Op == token.SUB {
			amount = "-(" + amount + ")"
			if _, plain := ast.Unparen(n).(*ast.BasicLit); plain {
				amount = "-" + c.text(n)
			}
		}
		c.emit(analysis.Diagnostic{
			Pos: set.Pos(), End: set.End(),
			Message:        "this loses what another writer adds between Get and Set: use Add",
			SuggestedFixes: c.fix(set, "Add", amount),
		})
	case *ast.CallExpr:
		if id, ok := ast.Unparen(x.Fun).(*ast.Ident); !ok || id.Name != "append" || len(x.Args) < 2 || !mine(x.Args[0]) {
			return
		}
		var items []string
		for _, a := range x.Args[1:] {
			items = append(items, c.text(a))
		}
		if x.Ellipsis.IsValid() {
			items[len(items)-1] += "..."
		}
		c.emit(analysis.Diagnostic{
			Pos: set.Pos(), End: set.End(),
			Message:        "this loses what another writer appends between Get and Set: use Append",
			SuggestedFixes: c.fix(set, "Append", strings.Join(items, ", ")),
		})
	}
}

// fix returns the operation in place of a Set whose error is the only value of a statement.
func (c *checker) fix(set *ast.CallExpr, operation, args string) []analysis.SuggestedFix {
	path, _, _ := c.called(set)
	pkg, ctx := "pantry", ""
	if path == boardPath {
		pkg, ctx = "board", c.text(set.Args[0])+", "
	}
	call := fmt.Sprintf("%s.%s(%s%s, %s)", pkg, operation, ctx, c.text(receiverOf(set)), args)
	for node := range c.in.PreorderSeq((*ast.AssignStmt)(nil), (*ast.ExprStmt)(nil)) {
		switch s := node.(type) {
		case *ast.ExprStmt:
			if s.X == set {
				return edit(operation, set, call)
			}
		case *ast.AssignStmt:
			if len(s.Rhs) == 1 && s.Rhs[0] == set && len(s.Lhs) == 1 {
				return []analysis.SuggestedFix{{Message: "use " + operation, TextEdits: []analysis.TextEdit{
					{Pos: s.Lhs[0].Pos(), End: s.Lhs[0].Pos(), NewText: []byte("_, ")},
					{Pos: set.Pos(), End: set.End(), NewText: []byte(call)},
				}}}
			}
		}
	}
	return nil
}

func edit(operation string, at ast.Node, text string) []analysis.SuggestedFix {
	return []analysis.SuggestedFix{{Message: "use " + operation, TextEdits: []analysis.TextEdit{{Pos: at.Pos(), End: at.End(), NewText: []byte(text)}}}}
}

// raise reports if x > v.Get() { v.Set(x) }.
func (c *checker) raise(s *ast.IfStmt, assigned map[types.Object]ast.Expr) {
	cond, ok := ast.Unparen(s.Cond).(*ast.BinaryExpr)
	if !ok || s.Else != nil || len(s.Body.List) == 0 {
		return
	}
	var v, x ast.Expr
	op := cond.Op
	if v = c.getOf(cond.X, assigned); v != nil {
		x = cond.Y
		op = map[token.Token]token.Token{token.LSS: token.GTR, token.LEQ: token.GEQ, token.GTR: token.LSS, token.GEQ: token.LEQ}[op]
	} else if v = c.getOf(cond.Y, assigned); v != nil {
		x = cond.X
	}
	use := map[token.Token]string{token.GTR: "Raise", token.GEQ: "Raise", token.LSS: "Lower", token.LEQ: "Lower"}[op]
	if v == nil || use == "" {
		return
	}
	ast.Inspect(s.Body, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if ok && c.isSet(call) && c.same(receiverOf(call), v) && (c.same(last(call), x) || c.text(last(call)) == c.text(x)) {
			c.report(call, "this loses a value that another writer sets in between, and compares with a default that may not be known yet: use %s", use)
		}
		return true
	})
}

// droppedError reports a write whose error is not used.
func (c *checker) droppedError(n ast.Node) {
	var call *ast.CallExpr
	switch n := n.(type) {
	case *ast.ExprStmt:
		call, _ = ast.Unparen(n.X).(*ast.CallExpr)
	case *ast.GoStmt:
		call = n.Call
	case *ast.DeferStmt:
		return // closing in a defer is usual, and its error is lost
	}
	if call == nil {
		return
	}
	_, receiver, name := c.called(call)
	writes := slices.Contains(writing, name) && (receiver == "" || receiver == "Var" || receiver == "Records" || receiver == "FieldsVar" || receiver == "Namespace" || receiver == "Board")
	if !writes && !(slices.Contains([]string{"Commit", "Reset", "Forget", "Flush"}, name) && (receiver == "Namespace" || receiver == "Board")) {
		return
	}
	if t, ok := c.TypesInfo.TypeOf(call).(*types.Tuple); ok && t.Len() == 0 {
		return
	}
	c.report(call, "the error of %s is dropped: what was not stored goes unnoticed", name)
}

// neverEnds reports whether an expression is a call of context.Background or context.TODO.
func (c *checker) neverEnds(x ast.Expr) bool {
	call, ok := ast.Unparen(x).(*ast.CallExpr)
	if !ok {
		return false
	}
	f := typeutil.StaticCallee(c.TypesInfo, call)
	return f != nil && (f.FullName() == "context.Background" || f.FullName() == "context.TODO")
}

// inMain reports what a main function leaves out.
func (c *checker) inMain(f *ast.FuncDecl) {
	ast.Inspect(f.Body, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if !ok || len(call.Args) != 1 {
			return true
		}
		if _, receiver, name := c.called(call); receiver == "Board" && name == "Ready" {
			if c.neverEnds(call.Args[0]) {
				c.report(call, "Ready waits for the whole Timeout without a network: pass a context that ends, or show the default meanwhile")
			}
		}
		return true
	})
	if c.Pkg.Name() != "main" || f.Name.Name != "main" || f.Recv != nil {
		return
	}
	opened := map[types.Object]*ast.CallExpr{}
	ast.Inspect(f.Body, func(n ast.Node) bool {
		s, ok := n.(*ast.AssignStmt)
		if !ok || len(s.Rhs) != 1 || len(s.Lhs) != 2 {
			return true
		}
		call, ok := s.Rhs[0].(*ast.CallExpr)
		if !ok {
			return true
		}
		if _, receiver, name := c.called(call); receiver != "" || name != "Open" && name != "Join" {
			return true
		}
		if id, ok := s.Lhs[0].(*ast.Ident); ok {
			opened[c.TypesInfo.ObjectOf(id)] = call
		}
		return true
	})
	for node, stack := range c.withParents() {
		id, ok := node.(*ast.Ident)
		if !ok || opened[c.TypesInfo.Uses[id]] == nil {
			continue
		}
		parent := stack[len(stack)-2]
		s, selects := parent.(*ast.SelectorExpr)
		if selects && s.Sel.Name == "Close" || !selects && !isArgumentOfLibrary(c, parent) {
			delete(opened, c.TypesInfo.Uses[id]) // closed, or somebody else's to close
		}
	}
	for _, call := range opened {
		_, _, name := c.called(call)
		c.report(call, "what %s returns is never closed in main: add a deferred Close, so that nothing is lost", name)
	}
}

// isArgumentOfLibrary reports whether a node is a call of the library, which does not close its arguments.
func isArgumentOfLibrary(c *checker, n ast.Node) bool {
	call, ok := n.(*ast.CallExpr)
	if !ok {
		return false
	}
	path, _, _ := c.called(call)
	return path != ""
}

// drawing reports a write that waits for the disk in a method Update that returns what to draw next, if
// the program nowhere asks for prompt writes.
func (c *checker) drawing(f *ast.FuncDecl) {
	if f.Recv == nil || f.Name.Name != "Update" || f.Type.Params.NumFields() != 1 || f.Type.Results.NumFields() != 2 || c.prompt() {
		return
	}
	ast.Inspect(f.Body, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if !ok {
			return true
		}
		path, receiver, name := c.called(call)
		if path == devicePath && slices.Contains(writing, name) && (receiver == "Var" || receiver == "Records" || receiver == "") {
			c.report(call, "%s waits for the disk in a function that draws: write in a goroutine or a command, or open with SyncWithin", name)
		}
		return true
	})
}

// prompt reports whether the package uses SyncWithin.
func (c *checker) prompt() bool {
	for node := range c.in.PreorderSeq((*ast.CallExpr)(nil)) {
		if _, _, name := c.called(node.(*ast.CallExpr)); name == "SyncWithin" {
			return true
		}
	}
	return false
}
