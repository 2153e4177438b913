package vet

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/types"
	"reflect"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/fieldname"
	"github.com/small-pantry/pantry/internal/near"
)

// A key is a declaration in the program: pantry.Int("reminder-hour", 18).
type key struct {
	name   string
	maker  string // Int, Text, RecordsOf, …
	call   *ast.CallExpr
	obj    types.Object // the variable that holds it, if it is one
	sealed bool
	family bool

	kind    string   // of its values; "" if that is unknown
	members []string // the stored fields of its struct; nil for others
}

// declaredNames are the names that a package declares, as a fact for packages that import it.
type declaredNames struct{ Names []declaredName }

// A declaredName is one key. Kind is the kind of its values, "" if that is unknown. Members are the
// stored names of the fields of a struct that is a record or an Object, nil for others.
type declaredName struct {
	Name, Maker, Where, Kind string
	Members                  []string
}

// AFact marks declaredNames as a fact.
func (*declaredNames) AFact() {}

func (f *declaredNames) String() string { return fmt.Sprintf("declares %d names", len(f.Names)) }

// makers are the functions that declare a key, with the kind of its values.
var makers = map[string]string{
	"Bool": "bool", "Int": "int", "Float": "float", "Text": "text", "Bytes": "bytes", "Time": "time", "Duration": "int", "OneOf": "text", "List": "list",
	"Map": "map", "Object": "map", "RecordsOf": "",
}

// holders returns the variables or fields that hold what a call makes.
func (c *checker) holders() map[*ast.CallExpr]types.Object {
	holders := map[*ast.CallExpr]types.Object{}
	for node := range c.in.PreorderSeq((*ast.ValueSpec)(nil), (*ast.AssignStmt)(nil), (*ast.KeyValueExpr)(nil)) {
		switch n := node.(type) {
		case *ast.ValueSpec:
			for i, v := range n.Values {
				if call := root(v); call != nil && i < len(n.Names) {
					holders[call] = c.TypesInfo.Defs[n.Names[i]]
				}
			}
		case *ast.AssignStmt:
			for i, v := range n.Rhs {
				if call := root(v); call != nil && i < len(n.Lhs) {
					if id, ok := n.Lhs[i].(*ast.Ident); ok {
						holders[call] = c.TypesInfo.ObjectOf(id)
					}
				}
			}
		}
	}
	return holders
}

// sealedCalls returns the calls that make a key whose values are sealed.
func (c *checker) sealedCalls() map[*ast.CallExpr]bool {
	sealed := map[*ast.CallExpr]bool{}
	for node := range c.in.PreorderSeq((*ast.CallExpr)(nil)) {
		call := node.(*ast.CallExpr)
		if _, receiver, name := c.called(call); receiver == "Key" && name == "Sealed" {
			if r := root(call); r != nil {
				sealed[r] = true
			}
		}
	}
	return sealed
}

// findKeys finds the keys that the package declares, and exports their names.
func (c *checker) findKeys() {
	holders, sealed := c.holders(), c.sealedCalls()
	for node := range c.in.PreorderSeq((*ast.CallExpr)(nil)) {
		call := node.(*ast.CallExpr)
		path, receiver, maker := c.called(call)
		kind, makes := makers[maker]
		if path == devicePath && receiver == "" && maker == "Fields" && !c.inTest(call) {
			c.fields = append(c.fields, c.fieldsOf(call)...)
		}
		if path != devicePath || receiver != "" || !makes {
			continue
		}
		c.survives(call, maker)
		if len(call.Args) == 0 || c.inTest(call) {
			continue
		}
		name, ok := c.stringOf(call.Args[0])
		if !ok {
			continue
		}
		k := &key{name: name, maker: maker, call: call, obj: holders[call], sealed: sealed[call], family: maker == "RecordsOf", kind: kind}
		if maker == "Object" || maker == "RecordsOf" {
			k.members = c.membersOf(call)
		}
		if k.members != nil || k.sealed {
			k.kind = map[bool]string{true: "sealed", false: "map"}[k.sealed]
		}
		if !k.sealed && (maker == "Text" || maker == "Bytes") && entry.SecretName(name) {
			c.report(call, "the name %q says that it is a secret, and the key is not Sealed: add .Sealed(), and the option Seal to Open", name)
		}
		c.keys = append(c.keys, k)
		if k.obj != nil {
			c.uses[k.obj] = k
		}
	}
	var fact declaredNames
	for _, k := range c.keys {
		fact.Names = append(fact.Names, declaredName{k.name, k.maker, c.Fset.Position(k.call.Pos()).String(), k.kind, k.members})
	}
	fact.Names = append(fact.Names, c.fields...)
	if len(fact.Names) > 0 {
		c.ExportPackageFact(&fact)
	}
}

// structOf returns the struct of a declaration such as RecordsOf[Planting], or nil.
func (c *checker) structOf(call *ast.CallExpr) *types.Struct {
	named, ok := c.TypesInfo.TypeOf(call).(*types.Named)
	if !ok || named.TypeArgs().Len() != 1 {
		return nil
	}
	s, _ := named.TypeArgs().At(0).Underlying().(*types.Struct)
	return s
}

// membersOf returns the stored names of the fields of a declaration's struct, or nil.
func (c *checker) membersOf(call *ast.CallExpr) (members []string) {
	for name := range storedFields(c.structOf(call)) {
		members = append(members, name)
	}
	slices.Sort(members)
	return members
}

// fieldsOf returns the names that the fields of a Fields declaration have.
func (c *checker) fieldsOf(call *ast.CallExpr) (names []declaredName) {
	for name, t := range storedFields(c.structOf(call)) {
		names = append(names, declaredName{Name: name, Maker: "Fields", Where: c.Fset.Position(call.Pos()).String(), Kind: kindOf(t)})
	}
	slices.SortFunc(names, func(a, b declaredName) int { return cmp.Compare(a.Name, b.Name) })
	return names
}

// storedFields returns the stored fields of a struct by their stored names. Those of an embedded struct
// count as the struct's own.
func storedFields(s *types.Struct) map[string]types.Type {
	all := map[string]types.Type{}
	if s == nil {
		return all
	}
	for i := range s.NumFields() {
		f := s.Field(i)
		if inner, ok := f.Type().Underlying().(*types.Struct); ok && f.Embedded() {
			for name, t := range storedFields(inner) {
				all[name] = t
			}
			continue
		}
		if name, stored := fieldname.Of(f.Name(), reflect.StructTag(s.Tag(i))); stored && f.Exported() {
			all[name] = f.Type()
		}
	}
	return all
}

// kindOf returns the kind of the values of a type, or "".
func kindOf(t types.Type) string {
	switch t := t.Underlying().(type) {
	case *types.Basic:
		switch info := t.Info(); {
		case info&types.IsBoolean != 0:
			return "bool"
		case info&types.IsInteger != 0:
			return "int"
		case info&types.IsFloat != 0:
			return "float"
		case info&types.IsString != 0:
			return "text"
		}
	case *types.Map:
		return "map"
	}
	return ""
}

// root returns the call at the start of a chain: Int in pantry.Int("a", 1).Between(0, 2).
func root(e ast.Expr) *ast.CallExpr {
	call, ok := ast.Unparen(e).(*ast.CallExpr)
	for ok {
		s, isSelector := ast.Unparen(call.Fun).(*ast.SelectorExpr)
		if !isSelector {
			return call
		}
		inner, chained := ast.Unparen(s.X).(*ast.CallExpr)
		if !chained {
			return call
		}
		call = inner
	}
	return nil
}

// declaredTwice reports names that are declared twice, or nearly, here and in imported packages.
func (c *checker) declaredTwice() {
	type declared struct {
		name, maker, where string
		call               *ast.CallExpr
	}
	var all []declared
	for _, f := range c.AllPackageFacts() {
		if names, ok := f.Fact.(*declaredNames); ok && f.Package != c.Pkg {
			for _, n := range names.Names {
				all = append(all, declared{name: n.Name, maker: n.Maker, where: n.Where})
			}
		}
	}
	for _, k := range c.keys {
		all = append(all, declared{k.name, k.maker, c.Fset.Position(k.call.Pos()).String(), k.call})
	}
	slices.SortStableFunc(all, func(a, b declared) int { return cmp.Compare(a.where, b.where) })
	for i, a := range all {
		for _, b := range all[i+1:] {
			at, other := b, a
			if at.call == nil {
				at, other = a, b
			}
			if at.call == nil {
				continue
			}
			switch how := near.Match(a.name, b.name); {
			case a.name == b.name:
				c.report(at.call, "the name %q is declared a second time (also at %s): was a line copied? Declare a key once and use its variable", at.name, short(other.where))
			case how != "":
				c.report(at.call, "the name %q nearly matches %q, which is declared at %s: %s", at.name, other.name, short(other.where), how)
			}
		}
	}
}

// short removes the directories of a position.
func short(where string) string { return where[strings.LastIndexByte(where, '/')+1:] }
