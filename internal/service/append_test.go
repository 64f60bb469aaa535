package service

import (
	"encoding/json"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
)

// What is written by append is byte for byte what package encoding/json would write.
func TestPlansAreWrittenAsJSON(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 14))
	texts := []string{"", "Quote 116.odt", "a \"b\" \\ c", "<script>&", "caf\xe9", "Orçamento \u2028", "\x00\x1f\x7f", "\n\t", "日本"}
	text := func() string { return texts[random.IntN(len(texts))] + texts[random.IntN(len(texts))] }
	place := func() api.Place {
		p := api.Place{Machine: text(), Path: text()}
		if random.IntN(3) == 0 {
			raw := []byte(text())
			p.PathBytes = &raw
		}
		return p
	}
	for range 500 {
		item := api.PlanItem{Action: api.Action(text()), Clash: text(), Copy: text(), From: place(), To: place(), Note: text(),
			Size: random.Int64() - random.Int64(), Type: api.EntryType(text())}
		if random.IntN(2) == 0 {
			item.Makes = &[]api.Place{place(), place()}
			item.Asks = &[]api.PlanItemAsks{api.PlanItemAsks(text())}
		}
		want, err := json.Marshal(item)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(appendPlanItem(nil, item)))
	}
}
