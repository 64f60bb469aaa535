package turns_test

import (
	"context"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/turns"
)

// Of those that wait the one that is waited for most has the next turn, of equals who came first; who leaves takes nobody's.
func TestWhoIsWaitedForMostGoesFirst(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		all := turns.New(1)
		require.NoError(t, all.Take(t.Context(), turns.Idle))
		var order []string
		come := func(name string, p turns.Priority, ctx context.Context) {
			go func() {
				if all.Take(ctx, p) == nil {
					order = append(order, name) // one at a time
					all.Give()
				}
			}()
			synctest.Wait()
		}
		leaving, leave := context.WithCancel(t.Context())
		come("scheduled", turns.Scheduled, t.Context())
		come("idle", turns.Idle, t.Context())
		come("left", turns.Waited, leaving)
		come("asked", turns.Asked, t.Context())
		come("asked later", turns.Asked, t.Context())
		come("waited", turns.Of(t.Context()), t.Context())
		assert.True(t, all.Waits())
		leave()
		synctest.Wait()
		all.Give()
		synctest.Wait()
		assert.Equal(t, []string{"waited", "asked", "asked later", "scheduled", "idle"}, order)
		assert.False(t, all.Waits())
		assert.Equal(t, turns.Idle, turns.Of(turns.With(t.Context(), turns.Idle)))
	})
}

// However contexts end there are never more at once than there are turns, and in the end all are free.
func TestNoTurnIsLostOrGivenTwice(t *testing.T) {
	const atOnce = 3
	all := turns.New(atOnce)
	var now, most atomic.Int64
	var working sync.WaitGroup
	for n := range 200 {
		working.Go(func() {
			ctx, done := context.WithTimeout(t.Context(), time.Duration(rand.IntN(4))*time.Millisecond)
			defer done()
			if all.Take(ctx, turns.Priority(n%4-1)) != nil {
				return
			}
			for is := now.Add(1); ; {
				if was := most.Load(); was >= is || most.CompareAndSwap(was, is) {
					break
				}
			}
			time.Sleep(time.Millisecond)
			now.Add(-1)
			all.Give()
		})
	}
	working.Wait()
	assert.LessOrEqual(t, most.Load(), int64(atOnce))
	for range atOnce {
		ctx, done := context.WithTimeout(t.Context(), time.Second)
		require.NoError(t, all.Take(ctx, turns.Idle))
		done()
	}
}
