package run

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/definition"
)

// What plans can name, runs can carry out.
func TestEveryStepIsKnown(t *testing.T) {
	file, err := parser.ParseFile(token.NewFileSet(), "../plan/plan.go", nil, 0)
	require.NoError(t, err)
	named := definition.Lifecycle
	ast.Inspect(file, func(n ast.Node) bool {
		v, is := n.(*ast.ValueSpec)
		if is && strings.HasPrefix(v.Names[0].Name, "Step") {
			name, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value)
			require.NoError(t, err)
			named = append(named, name)
		}
		return true
	})
	assert.Greater(t, len(named), 20)
	for _, name := range named {
		assert.NotNil(t, steps[name].do, name)
	}
	assert.Len(t, steps, len(named), "and nothing else")
}
