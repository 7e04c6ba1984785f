package service

import (
	"go/ast"
	"go/token"
	"go/types"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

// facts are the types of what the store holds, and of what memory keeps of it.
var facts = map[string]bool{
	"store.Host": true, "store.JoinToken": true, "store.Credential": true, "store.Newcomer": true, "store.Draft": true,
	"store.Revision":   true,
	"store.Assignment": true, "store.Manifest": true, "store.Secret": true, "store.Grant": true, "hosts.View": true,
	"reports.Said":  true,
	"rollout.State": true, "rollouts.Rollout": true, "revisions.State": true,
}

// TestRulesOfOwners: no owner shows state that others could change, and nothing that was read before a change decides
// inside it. What was read before may be compared there with what is so now.
func TestRulesOfOwners(t *testing.T) {
	t.Parallel()
	for _, p := range load(t, "synaxis/internal/service/...") {
		open(p, func(at token.Pos, what string) { t.Errorf("%s: %s", p.Fset.Position(at), what) })
		for _, f := range p.Syntax {
			stale(p, f, func(at token.Pos, what string) { t.Errorf("%s: %s", p.Fset.Position(at), what) })
		}
	}
}

// TestRulesFind: the two rules find what breaks them.
func TestRulesFind(t *testing.T) {
	t.Parallel()
	for _, p := range load(t, "synaxis/internal/service/testdata/broken") {
		var found []string
		open(p, func(_ token.Pos, what string) { found = append(found, what) })
		for _, f := range p.Syntax {
			stale(p, f, func(_ token.Pos, what string) { found = append(found, what) })
		}
		assert.Equal(
			t,
			[]string{
				"Count is a variable that everybody may change",
				"Owner.Hosts can be changed by everybody while a lock guards the rest",
				"have was read before the change and decides inside it",
				"v was read before the change and decides inside it",
			},
			found,
		)
	}
}

func load(t *testing.T, pattern string) []*packages.Package {
	if testing.Short() { // it reads code, in which the race detector finds nothing
		t.Skip("it reads code and runs none")
	}
	list, err := packages.Load(
		&packages.Config{Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes |
			packages.NeedTypesInfo | packages.NeedImports | packages.NeedExportFile},
		pattern,
	)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	for _, p := range list {
		require.Empty(t, p.Errors)
	}
	return list
}

// open finds variables of packages, and fields beside a lock, that everybody may change.
func open(p *packages.Package, found func(token.Pos, string)) {
	scope := p.Types.Scope()
	for _, name := range scope.Names() {
		switch o := scope.Lookup(name).(type) {
		case *types.Var:
			if o.Exported() && o.Type().String() != "error" && !strings.HasSuffix(p.PkgPath, "/join") {
				found(o.Pos(), name+" is a variable that everybody may change")
			}
		case *types.TypeName:
			s, ok := o.Type().Underlying().(*types.Struct)
			if !ok || !o.Exported() || !locked(s) {
				continue
			}
			for f := range s.Fields() {
				if f.Exported() {
					found(f.Pos(), name+"."+f.Name()+" can be changed by everybody while a lock guards the rest")
				}
			}
		}
	}
}

func locked(s *types.Struct) bool {
	for f := range s.Fields() {
		if t := f.Type().String(); t == "sync.Mutex" || t == "sync.RWMutex" {
			return true
		}
	}
	return false
}

// stale finds facts that were read before a change and are used inside it for more than a comparison.
func stale(p *packages.Package, f *ast.File, found func(token.Pos, string)) {
	for _, d := range f.Decls {
		fn, ok := d.(*ast.FuncDecl)
		if !ok || fn.Body == nil {
			continue
		}
		ast.Inspect(fn.Body, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) != 2 {
				return true
			}
			sel, ok := call.Fun.(*ast.SelectorExpr)
			change, isFunc := call.Args[1].(*ast.FuncLit)
			if !ok || !isFunc || sel.Sel.Name != "Update" && sel.Sel.Name != "Alone" ||
				!strings.HasSuffix(p.TypesInfo.TypeOf(sel.X).String(), "store.Store") {
				return true
			}
			read := readBefore(p, fn, change)
			told := map[types.Object]bool{}
			within(change.Body, func(id *ast.Ident, compared bool) {
				if o := p.TypesInfo.Uses[id]; read[o] && !compared && !told[o] {
					told[o] = true
					found(id.Pos(), id.Name+" was read before the change and decides inside it")
				}
			})
			return true
		})
	}
}

// readBefore are the variables of a function that hold facts which a call gave, outside a change and before it.
func readBefore(p *packages.Package, fn *ast.FuncDecl, change *ast.FuncLit) map[types.Object]bool {
	out := map[types.Object]bool{}
	ast.Inspect(fn.Body, func(n ast.Node) bool {
		if n == change {
			return false
		}
		s, ok := n.(*ast.AssignStmt)
		if !ok || s.Pos() > change.Pos() || len(s.Rhs) != 1 {
			return true
		}
		if _, ok := s.Rhs[0].(*ast.CallExpr); !ok {
			return true
		}
		for _, l := range s.Lhs {
			id, ok := l.(*ast.Ident)
			if !ok {
				continue
			}
			o := p.TypesInfo.Defs[id]
			if o == nil {
				o = p.TypesInfo.Uses[id]
			}
			if o != nil && facts[plainType(o.Type())] {
				out[o] = true
			}
		}
		return true
	})
	return out
}

func plainType(t types.Type) string {
	for {
		switch u := t.(type) {
		case *types.Pointer:
			t = u.Elem()
		case *types.Slice:
			t = u.Elem()
		case *types.Named:
			if u.Obj().Pkg() == nil {
				return "" // an error
			}
			return u.Obj().Pkg().Name() + "." + u.Obj().Name()
		case *types.Alias:
			t = types.Unalias(u)
		default:
			return ""
		}
	}
}

// within visits the names in a body, with whether they are only compared: by an operator, or by a function whose name
// begins with same.
func within(body ast.Node, visit func(id *ast.Ident, compared bool)) {
	compared := map[ast.Node]bool{}
	ast.Inspect(body, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.BinaryExpr:
			if x.Op == token.EQL || x.Op == token.NEQ || x.Op == token.LSS || x.Op == token.GTR {
				compared[x.X], compared[x.Y] = true, true
			}
		case *ast.CallExpr:
			if name, ok := x.Fun.(*ast.Ident); ok && strings.HasPrefix(name.Name, "same") {
				for _, a := range x.Args {
					compared[a] = true
				}
			}
		case *ast.SelectorExpr:
			compared[x.X] = compared[x.X] || compared[n]
		case *ast.Ident:
			visit(x, compared[n])
		}
		return true
	})
}
