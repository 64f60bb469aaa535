package reach

import "golang.org/x/sync/errgroup"

// SideBySide calls do for each of n, some at once, and returns an error of one of them, after which not all others may have been done.
// It is for many small files: each waits for the drive on its own, and while it does others use the processor.
func SideBySide(n int, do func(n int) error) error {
	const workers, together = 4, 16 // so that what is small is not handed over one by one
	var group errgroup.Group
	group.SetLimit(workers)
	for first := 0; first < n; first += together {
		group.Go(func() error {
			for i := first; i < min(first+together, n); i++ {
				if err := do(i); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}
