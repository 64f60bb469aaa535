package api

import (
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every operation of the contract names its right, and every one that the server has is in the contract: one without is found.
func TestEveryOperationNamesItsRight(t *testing.T) {
	all := Operations()
	server := reflect.TypeFor[StrictServerInterface]()
	require.Positive(t, server.NumMethod())
	for i := range server.NumMethod() {
		name := server.Method(i).Name
		o, ok := all[name]
		require.True(t, ok, "%s names no right", name)
		assert.True(t, o.Open || len(o.Rights) > 0, name)
	}
	assert.Len(t, all, server.NumMethod())
	without := strings.Replace(string(contract), "      x-right: find\n", "", 1)
	_, err := readOperations([]byte(without))
	assert.ErrorContains(t, err, "names no right: give it x-right")
}
