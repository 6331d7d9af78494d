package record_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// A function that is given a transaction reads and writes in it: it reaches for a
// store by In alone. A read on the pool would wait for a second connection while
// it holds the first.
func TestWhatHasATransactionReadsInIt(t *testing.T) {
	looked := 0
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			var params *ast.FieldList
			var body *ast.BlockStmt
			switch f := n.(type) {
			case *ast.FuncDecl:
				params, body = f.Type.Params, f.Body
			case *ast.FuncLit:
				params, body = f.Type.Params, f.Body
			}
			if body == nil || !takesTransaction(params) {
				return true
			}
			looked++
			ast.Inspect(body, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				if method, ok := call.Fun.(*ast.SelectorExpr); ok && isStore(method.X) && method.Sel.Name != "In" {
					t.Errorf("%s: %s is called on the pool inside of a transaction: use In(tx)", files.Position(call.Pos()),
						method.Sel.Name)
				}
				for _, given := range call.Args {
					if isStore(given) {
						t.Errorf("%s: the pool's store is passed on inside of a transaction: use In(tx)", files.Position(given.Pos()))
					}
				}
				return true
			})
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if looked < 100 {
		t.Errorf("only %d functions were looked at", looked)
	}
}

func takesTransaction(params *ast.FieldList) bool {
	for _, field := range params.List {
		if kind, ok := field.Type.(*ast.SelectorExpr); ok && kind.Sel.Name == "Tx" {
			return true
		}
	}
	return false
}

// isStore tells whether an expression is a field that holds a store, such as
// w.store or s.Parts.Store.
func isStore(x ast.Expr) bool {
	field, ok := x.(*ast.SelectorExpr)
	return ok && (field.Sel.Name == "store" || field.Sel.Name == "Store")
}
