package vet

import (
	"fmt"
	"go/ast"
	"go/types"
	"reflect"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/near"
)

// notDeclared reports keys that are not passed to Declare although others are, and literal names that
// no key declares.
func (c *checker) notDeclared() {
	passed, any, unknown := map[*key]bool{}, false, false
	for node := range c.in.PreorderSeq((*ast.CallExpr)(nil)) {
		call := node.(*ast.CallExpr)
		_, receiver, name := c.called(call)
		if receiver == "" && name == "Declare" && !c.inTest(call) {
			any = true
			for _, arg := range call.Args {
				id, ok := ast.Unparen(arg).(*ast.Ident)
				k := (*key)(nil)
				if ok {
					k = c.uses[c.TypesInfo.ObjectOf(id)]
				}
				if unknown = unknown || k == nil; k != nil {
					passed[k] = true
				}
			}
		}
		c.literalName(call, receiver, name)
	}
	if !any || unknown {
		return // it is declared by a list that this can't follow
	}
	for _, k := range c.keys {
		if k.obj != nil && !passed[k] && k.obj.Parent() == c.Pkg.Scope() {
			c.report(k.call, "the key %q is not passed to Declare, and others are: mistakes with it are not found", k.name)
		}
	}
}

// literalName reports a name in Put, Entry or Drop that no key declares.
func (c *checker) literalName(call *ast.CallExpr, receiver, method string) {
	if receiver != "Namespace" && receiver != "Batch" && receiver != "Board" || c.inTest(call) || len(c.keys) == 0 {
		return
	}
	if method != "Put" && method != "Entry" && method != "Drop" {
		return
	}
	for _, arg := range call.Args {
		name, ok := c.stringOf(arg)
		if !ok {
			continue
		}
		if c.covered(name) {
			return
		}
		mean := ""
		for _, k := range c.keys {
			if near.Match(name, k.name) != "" {
				mean = fmt.Sprintf("; did you mean %q?", k.name)
			}
		}
		c.report(arg, "no key declares the name %q%s", name, mean)
		return // the value of a Put is no name
	}
}

// covered reports whether a key declares a name, here or in a package that this one imports.
func (c *checker) covered(name string) bool {
	is := func(declared string) bool { return name == declared || strings.HasPrefix(name, declared+"/") }
	for _, k := range c.keys {
		if is(k.name) {
			return true
		}
	}
	for _, f := range c.AllPackageFacts() {
		if names, ok := f.Fact.(*declaredNames); ok && slices.ContainsFunc(names.Names, func(n declaredName) bool { return is(n.Name) }) {
			return true
		}
	}
	return false
}

// survives reports fields of a struct that are not stored.
func (c *checker) survives(call *ast.CallExpr, maker string) {
	if maker != "Object" && maker != "RecordsOf" || c.inTest(call) {
		return
	}
	t := c.TypesInfo.TypeOf(call)
	named, ok := t.(*types.Named)
	if !ok || named.TypeArgs().Len() != 1 {
		return
	}
	s, ok := named.TypeArgs().At(0).Underlying().(*types.Struct)
	if !ok {
		return
	}
	for i := range s.NumFields() {
		f := s.Field(i)
		tag := reflect.StructTag(s.Tag(i))
		why := ""
		switch f.Type().Underlying().(type) {
		case *types.Signature:
			why = "a func can't be stored"
		case *types.Chan:
			why = "a channel can't be stored"
		}
		switch {
		case !f.Exported() && !f.Embedded():
			why = "it is not exported; start its name with a capital letter"
		case tag.Get("pantry") == "-" || tag.Get("pantry") == "" && tag.Get("json") == "-":
			why = "its tag excludes it"
		}
		if why != "" {
			c.report(call, "the field %s of %s does not survive closing the app: %s", f.Name(), types.TypeString(named.TypeArgs().At(0), types.RelativeTo(c.Pkg)), why)
		}
	}
}

var (
	reading = []string{"Get", "Lookup", "State", "Watch", "All", "Len", "Sorted", "Each", "Update", "Entry"}
	writing = []string{"Set", "SetIf", "Seed", "Clear", "Put", "Add", "Drop", "Update", "Raise", "Lower", "Append", "AppendUnique", "Remove", "RemoveAll", "Take"}
)

// usage reports keys that the program only reads, only writes or never uses. It looks at keys of a main
// package: another package declares keys for others.
func (c *checker) usage() {
	if c.Pkg.Name() != "main" {
		return
	}
	type use struct{ read, written, unclear, any bool }
	seen := map[*key]*use{}
	for _, k := range c.keys {
		if k.obj != nil && k.obj.Parent() == c.Pkg.Scope() && k.maker != "Object" {
			seen[k] = &use{}
		}
	}
	vars := map[types.Object]*key{} // variables that hold a bound variable
	for node, stack := range c.withParents() {
		id, ok := node.(*ast.Ident)
		if !ok {
			continue
		}
		obj := c.TypesInfo.Uses[id]
		k := c.uses[obj]
		bound := false
		if k == nil {
			k, bound = vars[obj], true
		}
		u := seen[k]
		if k == nil || u == nil {
			continue
		}
		method, to, declares := c.methodOn(stack, bound)
		switch {
		case declares:
		case to != nil:
			vars[to] = k
			u.any = true
		case slices.Contains(reading, method) || slices.Contains(writing, method):
			u.any = true
			u.read = u.read || slices.Contains(reading, method)
			u.written = u.written || slices.Contains(writing, method)
		default:
			u.unclear = true
		}
	}
	for k, u := range seen {
		switch {
		case u.unclear:
		case !u.any && !u.read && !u.written:
			c.report(k.call, "the key %q is declared and never used", k.name)
		case u.read && !u.written:
			c.report(k.call, "the key %q is read and never written, so it always has its default", k.name)
		case u.written && !u.read:
			c.report(k.call, "the key %q is written and never read", k.name)
		}
	}
}

// withParents iterates over the nodes with their parents, the nearest last.
func (c *checker) withParents() func(yield func(ast.Node, []ast.Node) bool) {
	return func(yield func(ast.Node, []ast.Node) bool) {
		c.in.WithStack(nil, func(n ast.Node, push bool, stack []ast.Node) bool {
			return !push || yield(n, stack)
		})
	}
}

// methodOn returns what is done with a key, or with a bound variable: the method that is called on it in
// the end, or the variable that it is assigned to. declares is set for an argument of Declare.
func (c *checker) methodOn(stack []ast.Node, bound bool) (method string, to types.Object, declares bool) {
	for i := len(stack) - 2; i >= 0; i-- {
		switch n := stack[i].(type) {
		case *ast.SelectorExpr: // the call that it is part of decides
		case *ast.CallExpr:
			_, _, name := c.called(n)
			switch {
			case name == "Declare":
				return "", nil, true
			case name == "In", name == "On", name == "OnRecords", name == "OnFields", name == "At":
				bound = true
				continue
			case slices.Contains(reading, name), slices.Contains(writing, name):
				return name, nil, false
			}
			return "", nil, false
		case *ast.AssignStmt:
			if !bound || len(n.Lhs) != 1 {
				return "", nil, false
			}
			if id, ok := n.Lhs[0].(*ast.Ident); ok {
				return "", c.TypesInfo.ObjectOf(id), false
			}
			return "", nil, false
		case *ast.ParenExpr:
		default:
			return "", nil, false
		}
	}
	return "", nil, false
}
