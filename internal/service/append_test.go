package service

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is written by append is byte for byte what package encoding/json would write.
func TestLongAnswersAreWrittenAsJSON(t *testing.T) {
	f := filler{rand.New(rand.NewPCG(3, 14))}
	for range 500 {
		same(t, f, appendPlanItem)
		same(t, f, appendVersion)
		same(t, f, appendCopy)
		same(t, f, appendMark)
	}
}

func same[T any](t *testing.T, f filler, write func([]byte, T) []byte) {
	t.Helper()
	var x T
	f.fill(reflect.ValueOf(&x).Elem())
	want, err := json.Marshal(x)
	require.NoError(t, err)
	assert.Equal(t, string(want), string(write(nil, x)))
}

// filler fills values with whatever they can hold.
type filler struct{ *rand.Rand }

func (f filler) fill(v reflect.Value) {
	texts := []string{"", "Quote 116.odt", "a \"b\" \\ c", "<script>&", "caf\xe9", "Orçamento \u2028", "\x00\x1f\x7f", "\n\t", "日本"}
	switch {
	case v.Type() == reflect.TypeFor[time.Time]():
		v.Set(reflect.ValueOf(time.Unix(f.Int64N(4e9)-1e9, f.Int64N(2)*f.Int64N(1e9)).UTC()))
	case v.Kind() == reflect.String:
		v.SetString(texts[f.IntN(len(texts))] + texts[f.IntN(len(texts))])
	case v.Kind() == reflect.Bool:
		v.SetBool(f.IntN(2) == 0)
	case v.CanInt():
		v.SetInt(f.Int64() - f.Int64())
	case v.CanUint():
		v.SetUint(uint64(f.IntN(256)))
	case v.Kind() == reflect.Pointer:
		if f.IntN(2) == 0 {
			v.Set(reflect.New(v.Type().Elem()))
			f.fill(v.Elem())
		}
	case v.Kind() == reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), f.IntN(3), 3))
		for i := range v.Len() {
			f.fill(v.Index(i))
		}
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			f.fill(v.Field(i))
		}
	}
}
