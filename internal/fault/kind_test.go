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
	"bad-address": true, "bad-days": true, "bad-dockerfile": true, "bad-duration": true, "bad-image": true, "bad-key": true, "bad-label": true, "bad-limit": true,
	"bad-login-file": true, "bad-mail": true, "bad-name": true, "bad-option": true, "bad-ref": true, "bad-reference": true, "bad-request": true,
	"bad-secret": true, "bad-server": true, "bad-size": true, "bad-source": true, "bad-variation": true, "another-architecture": true, "same-engine": true, "there-already": true, "bad-template": true, "bad-user": true, "bad-policy": true, "bad-price": true, "bad-id": true, "build-failed": true,
	"command-failed": true, "workspace-ended": true, "long-password": true, "no-password": true, "not-a-template": true, "not-carried-out": true,
	"not-this-host": true, "put-failed": true, "service-failed": true, "short-password": true, "size-too-small": true, "unknown-option": true,
	"weak-key": true, "bad-suffix": true, "bad-link": true, "bad-placeholder": true, "bad-command": true, "bad-port": true, "bad-path": true, "settings-unwritable": true, "bad-wish": true, "bad-decision": true,
}

// program calls f with all that the program's own files say, and where.
func program(t *testing.T, f func(n ast.Node, at string)) {
	t.Helper()
	for _, root := range []string{"../../internal", "../../cmd"} {
		err := filepath.WalkDir(root, func(file string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, ".gen.go") {
				return err
			}
			set := token.NewFileSet()
			parsed, err := parser.ParseFile(set, file, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(parsed, func(n ast.Node) bool {
				if n != nil {
					f(n, set.Position(n.Pos()).String())
				}
				return true
			})
			return nil
		})
		require.NoError(t, err)
	}
}

// Every code that the program gives to a fault has a kind that somebody decided on.
func TestEveryCodeHasItsKind(t *testing.T) {
	seen := map[string]string{}
	program(t, func(n ast.Node, at string) {
		if call, is := n.(*ast.CallExpr); is {
			if code := codeOf(call); code != "" {
				seen[code] = at
			}
		}
	})
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

// A remedy is told in one form, which ToDo gives; it is a thing to do, and what shows it ends
// the sentence. A message is one sentence without its end, for others wrap it.
func TestOneFormOfMessages(t *testing.T) {
	told := 0
	program(t, func(n ast.Node, at string) {
		if text, is := n.(*ast.BasicLit); is && text.Kind == token.STRING && !strings.Contains(at, "fault.go:") {
			for _, other := range []string{"What to do", "To mend", "to mend it", "Remedy:", "Hint:", "hint:"} {
				assert.NotContains(t, text.Value, other, at)
			}
		}
		call, is := n.(*ast.CallExpr)
		if !is || codeOf(call) == "" {
			return
		}
		i := 0
		if f := call.Fun.(*ast.SelectorExpr); f.Sel.Name != "New" {
			i = 1
		}
		remedy, message := literal(call, i+1), literal(call, i+2)
		assert.False(t, strings.HasSuffix(remedy, "."), "%s: the remedy %q ends a sentence", at, remedy)
		assert.False(t, strings.HasSuffix(message, ".") || strings.HasSuffix(message, "!"), "%s: the message %q ends a sentence", at, message)
		if message != "" {
			told++
			assert.True(t, strings.ContainsAny(message, " %"), "%s: %q is no sentence", at, message)
		}
	})
	assert.Greater(t, told, 200)
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
	at, known := map[string]int{"New": 0, "Wrap": 1, "Transient": 1}[f.Sel.Name]
	if !known {
		return ""
	}
	return literal(call, at)
}

// literal is an argument of a call that is text in the program; "" for others.
func literal(call *ast.CallExpr, i int) string {
	if i >= len(call.Args) {
		return ""
	}
	text, is := call.Args[i].(*ast.BasicLit)
	if !is {
		return ""
	}
	s, err := strconv.Unquote(text.Value)
	if err != nil {
		return ""
	}
	return s
}

func TestKindsOfErrors(t *testing.T) {
	assert.Equal(t, Unable, KindOf(fmt.Errorf("put in: %w", New("disk-full", "", "no room"))))
	assert.Equal(t, Asked, KindOf(New("bad-name", "", "no name")))
	assert.Equal(t, Asked, KindOf(New("a-problem-of-a-definition", "", "wrong")))
	assert.Equal(t, OwnMistake, KindOf(errors.New("nil map")))
}
