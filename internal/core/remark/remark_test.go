package remark_test

import (
	"encoding/json"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/remark"
)

// made is any remark that may be kept: whole numbers, shares, texts that look like anything, and remarks in it.
func made(r *rand.Rand, depth int) remark.Remark {
	texts := []string{"", "oak", "12", "{\"code\":\"oak\"}", "[1]", "caf\u00e9 \"larch\"", "null"}
	m := remark.New([]string{"sound", "part-damaged", "at-line"}[r.IntN(3)])
	for _, name := range []string{"n", "at", "why"}[:r.IntN(4)] {
		if m.Values == nil {
			m.Values = remark.Values{}
		}
		switch kind := r.IntN(4); {
		case kind == 0:
			m.Values[name] = r.Int64() - r.Int64()
		case kind == 1:
			m.Values[name] = r.Float64() + 0.5e-9
		case kind == 2 && depth > 0:
			m.Values[name] = made(r, depth-1)
		default:
			m.Values[name] = texts[r.IntN(len(texts))]
		}
	}
	return m
}

// What is kept of a remark comes back as it was; a sentence of an earlier version comes back as what was said.
func TestARemarkIsKept(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 23))
	for range 2000 {
		was := made(r, 3)
		encoded, err := json.Marshal(was)
		require.NoError(t, err)
		var is remark.Remark
		require.NoError(t, json.Unmarshal(encoded, &is), "%s", encoded)
		require.Equal(t, was, is, "%s", encoded)
	}
	var all []remark.Remark
	require.NoError(t, json.Unmarshal([]byte(`["It is whole.", {"code":"no-format"}]`), &all))
	assert.Equal(t, []remark.Remark{remark.Said("It is whole."), remark.New("no-format")}, all)
	assert.True(t, remark.Has(all, "no-format"))
	assert.False(t, remark.Has(all, "It is whole."))
	assert.Error(t, json.Unmarshal([]byte(`{"code":`), &all))
}

func FuzzRemark(f *testing.F) {
	f.Add([]byte(`{"code":"sound","values":{"n":1,"why":{"code":"x"}}}`))
	f.Add([]byte(`"It is whole."`))
	f.Fuzz(func(t *testing.T, content []byte) {
		var r remark.Remark
		if json.Unmarshal(content, &r) != nil {
			return
		}
		encoded, err := json.Marshal(r)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(encoded, &r), "what was read can be kept again")
	})
}
