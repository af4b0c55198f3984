package fault

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asked are the codes of which somebody decided that they are Asked.
var asked = map[string]bool{
	"bad-address": true, "bad-days": true, "bad-dockerfile": true, "bad-duration": true, "bad-image": true, "bad-key": true, "bad-limit": true,
	"bad-login-file": true, "bad-mail": true, "bad-name": true, "bad-option": true, "bad-ref": true, "bad-reference": true, "bad-request": true,
	"bad-secret": true, "bad-server": true, "bad-size": true, "bad-source": true, "bad-template": true, "bad-user": true, "build-failed": true,
	"command-failed": true, "workspace-ended": true, "long-password": true, "no-password": true, "not-a-template": true, "not-carried-out": true,
	"not-this-host": true, "put-failed": true, "service-failed": true, "short-password": true, "size-too-small": true, "unknown-option": true,
	"weak-key": true,
}

// Every code that the program gives to a fault has a kind that somebody decided on.
func TestEveryCodeHasItsKind(t *testing.T) {
	seen := map[string]string{}
	for _, root := range []string{"../../internal", "../../cmd"} {
		err := filepath.WalkDir(root, func(file string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
				return err
			}
			set := token.NewFileSet()
			parsed, err := parser.ParseFile(set, file, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(parsed, func(n ast.Node) bool {
				if call, is := n.(*ast.CallExpr); is {
					if code := codeOf(call); code != "" {
						seen[code] = set.Position(call.Pos()).String()
					}
				}
				return true
			})
			return nil
		})
		require.NoError(t, err)
	}
	require.Greater(t, len(seen), 100)
	for code, at := range seen {
		if _, has := kinds[code]; !has && !asked[code] {
			t.Errorf("%s has the code %s: decide of which kind it is", at, code)
		}
	}
	for code := range kinds {
		assert.False(t, asked[code], "%s has two kinds", code)
	}
}

// codeOf is the code that a call of New, Wrap or Transient of this package gives.
func codeOf(call *ast.CallExpr) string {
	f, is := call.Fun.(*ast.SelectorExpr)
	if !is {
		return ""
	}
	if of, is := f.X.(*ast.Ident); !is || of.Name != "fault" {
		return ""
	}
	at := map[string]int{"New": 0, "Wrap": 1, "Transient": 1}
	i, known := at[f.Sel.Name]
	if !known || i >= len(call.Args) {
		return ""
	}
	if text, is := call.Args[i].(*ast.BasicLit); is {
		code, _ := strconv.Unquote(text.Value)
		return code
	}
	return ""
}

func TestKindsOfErrors(t *testing.T) {
	assert.Equal(t, Unable, KindOf(fmt.Errorf("put in: %w", New("disk-full", "", "no room"))))
	assert.Equal(t, Asked, KindOf(New("bad-name", "", "no name")))
	assert.Equal(t, Asked, KindOf(New("a-problem-of-a-definition", "", "wrong")))
	assert.Equal(t, OwnMistake, KindOf(errors.New("nil map")))
}
