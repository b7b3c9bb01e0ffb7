package pg_test

import (
	"fmt"
	"go/ast"
	"go/constant"
	"go/types"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

// Each struct that rows of a query are collected into has a field for each column, and a column for each field: found
// from the code and the database's own description of the query, so that no row has to come for it.
func TestStructsAreTheColumns(t *testing.T) {
	f := start(t)
	conn, err := f.Pool.Acquire(ctx)
	require.NoError(t, err)
	defer conn.Release()
	loaded, err := packages.Load(&packages.Config{
		Mode: packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo |
			packages.NeedName | packages.NeedImports | packages.NeedExportFile,
	}, "kembrel/store/pg/...")
	require.NoError(t, err)
	require.Greater(t, len(loaded), 10)
	checked, unnamed := 0, 0
	look := func(info *types.Info, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			index, ok := call.Fun.(*ast.IndexExpr)
			if !ok {
				return true
			}
			name, ok := index.X.(*ast.SelectorExpr)
			if !ok || name.Sel.Name != "List" && name.Sel.Name != "One" || len(call.Args) < 3 {
				return true
			}
			row, ok := info.TypeOf(index.Index).Underlying().(*types.Struct)
			if !ok {
				return true // the generic function itself
			}
			value := info.Types[call.Args[2]].Value
			if value == nil {
				unnamed++ // chosen while running
				return true
			}
			query := constant.StringVal(value)
			text, known := f.DB.QueryTexts()[query]
			require.True(t, known, query)
			rewritten, _, err := pgx.NamedArgs{}.RewriteQuery(ctx, conn.Conn(), text, nil)
			require.NoError(t, err, query)
			described, err := conn.Conn().Prepare(ctx, fmt.Sprint("columns", checked), rewritten)
			require.NoError(t, err, query)
			var columns []string
			for _, d := range described.Fields {
				columns = append(columns, strings.ReplaceAll(strings.ToLower(d.Name), "_", ""))
			}
			fields := fieldsOf(row)
			slices.Sort(columns)
			slices.Sort(fields)
			if !slices.Equal(columns, fields) {
				t.Errorf("%s: columns %v, fields %v", query, without(columns, fields), without(fields, columns))
			}
			checked++
			return true
		})
	}
	for _, p := range loaded {
		require.Empty(t, p.Errors)
		for _, file := range p.Syntax {
			look(p.TypesInfo, file)
		}
	}
	require.Greater(t, checked, 50)
	require.Less(t, unnamed, 6)
}

func without(a, b []string) (out []string) {
	for _, x := range a {
		if !slices.Contains(b, x) {
			out = append(out, x)
		}
	}
	return out
}

// fieldsOf are the names by which pgx looks for columns: those of embedded structs are fields too.
func fieldsOf(s *types.Struct) (out []string) {
	for i := range s.NumFields() {
		field := s.Field(i)
		if inner, ok := field.Type().Underlying().(*types.Struct); ok && field.Embedded() {
			out = append(out, fieldsOf(inner)...)
		} else if field.Exported() {
			out = append(out, strings.ToLower(field.Name()))
		}
	}
	return out
}
