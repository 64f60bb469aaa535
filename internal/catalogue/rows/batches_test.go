package rows

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// Whatever items are saved, one by one, many or all, in whatever order, the receipt holds each as it was saved last.
func TestItemsAreAsTheyWereSavedLast(t *testing.T) {
	ctx := t.Context()
	f, err := file.Open(ctx, filepath.Join(t.TempDir(), file.Name), func(*file.File) error { return nil }, BatchItems)
	require.NoError(t, err)
	defer f.Close()
	c := NewReceipts(f)
	random := rand.New(rand.NewPCG(11, 28))
	var want []ReceiptItem
	r, err := c.Begin(ctx, Receipt{At: time.Unix(200, 0), By: "technician"}, func(put func([]ReceiptItem) error) error {
		for range 7 {
			batch := make([]ReceiptItem, 1+random.IntN(30))
			for n := range batch {
				batch[n] = ReceiptItem{Copy: copies.ID(random.Int64N(1 << 40)), Source: 3, Type: entry.File, Size: random.Int64(), Outcome: ItemWaiting,
					From: place.Place{Machine: "loft", Path: "/trash/caf\xe9\n"}, To: place.Place{Machine: "loft", Path: fmt.Sprint("/home/", n)}}
			}
			if err := put(batch); err != nil {
				return err
			}
			want = append(want, batch...)
		}
		return nil
	})
	require.NoError(t, err)
	for n := range want {
		want[n].N = n
	}
	outcomes := []ItemOutcome{ItemStarted, ItemDone, ItemFailed, ItemUndone}
	for range 50 {
		var some []ReceiptItem
		for _, n := range random.Perm(len(want))[:random.IntN(len(want)+1)] {
			i := &want[n]
			i.Outcome, i.Note = outcomes[random.IntN(len(outcomes))], fmt.Sprint("note ", random.IntN(9))
			i.SHA256, i.Work = digest.Parse(fmt.Sprintf("%064x", random.Uint64())), fmt.Append(nil, "work ", random.IntN(9))
			some = append(some, *i)
		}
		require.NoError(t, c.SaveItems(ctx, r.ID, some))
	}
	got, err := c.Items(ctx, r.ID, 0, 0)
	require.NoError(t, err)
	for n := range want { // what was never saved has no work
		want[n].Work, got[n].Work = append([]byte{}, want[n].Work...), append([]byte{}, got[n].Work...)
	}
	assert.Equal(t, want, got)
	from, limit := random.IntN(len(want)), 1+random.IntN(len(want))
	page, err := c.Items(ctx, r.ID, from, limit)
	require.NoError(t, err)
	require.Len(t, page, min(limit, len(want)-from))
	assert.Equal(t, want[from].N, page[0].N)
	done := 0
	for _, i := range want {
		if i.Outcome == ItemDone || i.Outcome == ItemUndone {
			done++
		}
	}
	r, err = c.ByID(ctx, r.ID)
	require.NoError(t, err)
	assert.Equal(t, []int{len(want), done}, []int{r.Count, r.Done})
	past, err := c.Items(ctx, r.ID, len(want), 10)
	require.NoError(t, err)
	assert.Empty(t, past)
	assert.ErrorIs(t, c.SaveItems(ctx, r.ID+1, want[:1]), problem.NotKnown)
}

// Of a damaged batch nothing is made up, and it takes no more memory than it is allowed.
func FuzzUnpackBatch(f *testing.F) {
	packed, err := packBatch([]ReceiptItem{{Copy: 7, To: place.Place{Machine: "loft", Path: "/home/ines/Quote.odt"}, Outcome: ItemDone}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(packed)
	f.Fuzz(func(t *testing.T, packed []byte) {
		items, err := unpackBatch(3, packed)
		if err != nil {
			return
		}
		again, err := packBatch(items)
		require.NoError(t, err)
		same, err := unpackBatch(3, again)
		require.NoError(t, err)
		require.Equal(t, len(items), len(same))
	})
}
