package problem_test

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/problem"
)

func TestEveryCodeSaysWhatItMeansAsASentencesEnd(t *testing.T) {
	parsed, err := parser.ParseFile(token.NewFileSet(), "problem.go", nil, 0)
	require.NoError(t, err)
	codes := map[string]bool{}
	ast.Inspect(parsed, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok || len(spec.Values) != 1 {
			return true
		}
		if kind, ok := spec.Type.(*ast.Ident); ok && kind.Name == "Code" {
			value, err := strconv.Unquote(spec.Values[0].(*ast.BasicLit).Value)
			require.NoError(t, err)
			assert.False(t, codes[value], "%s stands for two problems", value)
			codes[value] = true
		}
		return true
	})
	require.Greater(t, len(codes), 40)
	for code := range codes {
		said := problem.Code(code).Error()
		assert.NotEqual(t, code, said, "%s says nothing", code)
		assert.NotContains(t, said, "rrno")
		assert.False(t, strings.HasSuffix(said, "."), code)
		assert.Equal(t, strings.ToLower(said[:1]), said[:1], code)
	}
}

func TestCodesAreFoundInWhateverWrapsThem(t *testing.T) {
	wrapped := fmt.Errorf("open it: %w", fmt.Errorf("there: %w", problem.Full))
	code, ok := problem.Of(wrapped)
	assert.True(t, ok)
	assert.Equal(t, problem.Full, code)
	assert.ErrorIs(t, wrapped, problem.Full)
	for code, is := range map[problem.Code]error{problem.NotThere: fs.ErrNotExist, problem.Taken: fs.ErrExist,
		problem.NotEmpty: fs.ErrExist, problem.Refused: fs.ErrPermission} {
		assert.ErrorIs(t, fmt.Errorf("x: %w", code), is)
		assert.NotErrorIs(t, problem.Full, is)
	}
	code, _ = problem.Of(fmt.Errorf("x: %w", fs.ErrNotExist))
	assert.Equal(t, problem.NotThere, code)
	_, ok = problem.Of(errors.New("something else"))
	assert.False(t, ok)
}
