// Package diff finds what two sequences have in common, by the greedy algorithm of E. W. Myers, "An O(ND) Difference
// Algorithm and Its Variations", Algorithmica 1 (1986).
package diff

// Op is what happens to a run of elements.
type Op byte

// The operations.
const (
	Same    Op = '='
	Removed Op = '-' // only in the first sequence
	Added   Op = '+' // only in the second
)

// Run is a run of elements that the same happens to: A[AStart:AEnd] of the first sequence, B[BStart:BEnd] of the second.
type Run struct {
	Op           Op
	AStart, AEnd int
	BStart, BEnd int
}

// MaxEdits bounds the work and memory; sequences that differ in more elements are taken as replaced between their common
// beginning and end.
const MaxEdits = 1500

// Of returns the runs that turn a into b, in order.
func Of[T comparable](a, b []T) []Run {
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	var runs []Run
	add := func(op Op, as, ae, bs, be int) {
		if as == ae && bs == be {
			return
		}
		if n := len(runs); n > 0 && runs[n-1].Op == op {
			runs[n-1].AEnd, runs[n-1].BEnd = ae, be
			return
		}
		runs = append(runs, Run{op, as, ae, bs, be})
	}
	add(Same, 0, head, 0, head)
	x, y := head, head
	endA, endB := len(a)-tail, len(b)-tail
	for _, step := range path(a[head:endA], b[head:endB]) {
		sx, sy := head+step[0], head+step[1] // where a common run begins
		add(Removed, x, sx, y, y)
		add(Added, sx, sx, y, sy)
		add(Same, sx, sx+step[2], sy, sy+step[2])
		x, y = sx+step[2], sy+step[2]
	}
	add(Removed, x, endA, y, y)
	add(Added, endA, endA, y, endB)
	add(Same, endA, len(a), endB, len(b))
	return runs
}

// path returns the common runs of a shortest edit script: where each begins in a and in b, and its length.
func path[T comparable](a, b []T) [][3]int {
	n, m := len(a), len(b)
	if n == 0 || m == 0 {
		return nil
	}
	limit := min(n+m, MaxEdits)
	v := make([]int32, 2*limit+3)
	at := func(k int) int { return k + limit + 1 }
	var trace [][]int32
	for d := 0; d <= limit; d++ {
		trace = append(trace, append([]int32(nil), v[at(-d)-1:at(d)+2]...))
		for k := -d; k <= d; k += 2 {
			var x int32
			if k == -d || k != d && v[at(k-1)] < v[at(k+1)] {
				x = v[at(k+1)]
			} else {
				x = v[at(k-1)] + 1
			}
			y := x - int32(k)
			for int(x) < n && int(y) < m && a[x] == b[y] {
				x, y = x+1, y+1
			}
			v[at(k)] = x
			if int(x) >= n && int(y) >= m {
				return back(trace, n, m)
			}
		}
	}
	return nil
}

// back walks from the end to the beginning along the furthest points kept for every number of edits.
func back(trace [][]int32, x, y int) [][3]int {
	var runs [][3]int
	for d := len(trace) - 1; d >= 0; d-- {
		v := trace[d]
		get := func(k int) int { return int(v[k+d+1]) }
		k := x - y
		prev := k - 1
		if k == -d || k != d && get(k-1) < get(k+1) {
			prev = k + 1
		}
		px := 0
		py := 0
		if d > 0 {
			px = get(prev)
			py = px - prev
		}
		sx, sy := px, py // after the edit
		if d > 0 {
			if prev == k+1 {
				sy++
			} else {
				sx++
			}
		}
		if x > sx {
			runs = append(runs, [3]int{sx, sy, x - sx})
		}
		x, y = px, py
	}
	for i, j := 0, len(runs)-1; i < j; i, j = i+1, j-1 {
		runs[i], runs[j] = runs[j], runs[i]
	}
	return runs
}
