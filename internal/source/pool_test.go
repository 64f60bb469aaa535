package source

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// closing is a store of which only the end is of interest.
type closing struct {
	Store
	closed atomic.Int32
}

func (c *closing) Close() error { c.closed.Add(1); return nil }

// opens opens a store and counts that.
func opens(s *closing, times *atomic.Int32) func() (Store, error) {
	return func() (Store, error) { times.Add(1); return s, nil }
}

func TestAPoolOpensOnceForAllWhoWantAStore(t *testing.T) {
	var p Pool
	var times atomic.Int32
	s := &closing{}
	var all sync.WaitGroup
	leases := make(chan *Lease, 20)
	for range cap(leases) {
		all.Go(func() {
			lease, err := p.Get(t.Context(), "papers", opens(s, &times))
			if assert.NoError(t, err) {
				leases <- lease
			}
		})
	}
	all.Wait()
	close(leases)
	assert.EqualValues(t, 1, times.Load())
	require.NoError(t, p.Close())
	_, err := p.Get(t.Context(), "papers", opens(s, &times))
	assert.ErrorIs(t, err, ErrPoolClosed)
	for lease := range leases {
		assert.Zero(t, s.closed.Load(), "it is open as long as somebody uses it, whatever becomes of the pool")
		require.NoError(t, lease.Close())
		require.NoError(t, lease.Close(), "twice is once")
	}
	assert.EqualValues(t, 1, s.closed.Load())
}

func TestAPoolClosesWhatIsIdleOrTooMuch(t *testing.T) {
	now := time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC)
	p := Pool{Now: func() time.Time { return now }}
	var times atomic.Int32
	stores := make([]*closing, PoolLimit+3)
	for i := range stores {
		stores[i] = &closing{}
		lease, err := p.Get(t.Context(), i, opens(stores[i], &times))
		require.NoError(t, err)
		now = now.Add(time.Second)
		require.NoError(t, lease.Close())
	}
	closed := 0
	for i, s := range stores {
		if s.closed.Load() > 0 {
			closed++
			assert.Less(t, i, 3, "those used longest ago go first")
		}
	}
	assert.Equal(t, 3, closed)
	now = now.Add(PoolIdle + time.Second)
	lease, err := p.Get(t.Context(), len(stores)-1, opens(&closing{}, &times))
	require.NoError(t, err)
	require.NoError(t, lease.Close())
	for _, s := range stores[:len(stores)-1] {
		assert.EqualValues(t, 1, s.closed.Load())
	}
	assert.Zero(t, stores[len(stores)-1].closed.Load(), "it was just used")
}

func TestWhatAPoolForgetsIsOpenedAnewAndEndsWithItsLastUse(t *testing.T) {
	var p Pool
	var times atomic.Int32
	former, present := &closing{}, &closing{}
	using, err := p.Get(t.Context(), "papers", opens(former, &times))
	require.NoError(t, err)
	p.Forget(func(key any) bool { return key == "papers" })
	assert.Zero(t, former.closed.Load())
	again, err := p.Get(t.Context(), "papers", opens(present, &times))
	require.NoError(t, err)
	assert.EqualValues(t, 2, times.Load())
	require.NoError(t, using.Close())
	assert.EqualValues(t, 1, former.closed.Load())
	assert.Zero(t, present.closed.Load())
	require.NoError(t, again.Close())
}

func TestWhoWaitsForAStoreCanLeaveAndAFailureIsNotKept(t *testing.T) {
	var p Pool
	var times atomic.Int32
	begun, goOn := make(chan struct{}), make(chan struct{})
	broken := errors.New("its directory is broken")
	var opener sync.WaitGroup
	opener.Go(func() {
		_, err := p.Get(t.Context(), "papers", func() (Store, error) {
			close(begun)
			<-goOn
			return nil, broken
		})
		assert.ErrorIs(t, err, broken)
	})
	<-begun
	left, leave := context.WithCancel(t.Context())
	leave()
	_, err := p.Get(left, "papers", opens(&closing{}, &times))
	assert.ErrorIs(t, err, context.Canceled)
	close(goOn)
	opener.Wait()
	lease, err := p.Get(t.Context(), "papers", opens(&closing{}, &times))
	require.NoError(t, err, "it is tried again")
	require.NoError(t, lease.Close())
	assert.EqualValues(t, 1, times.Load())
}
