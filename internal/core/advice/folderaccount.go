package advice

import (
	"slices"
	"time"

	"humble-rewind/internal/core/masschange"
	"humble-rewind/internal/core/remark"
)

// happened says what a mass change did.
func happened(m *masschange.Mass) (did remark.Together) {
	for _, part := range []struct {
		code string
		n    int
	}{{"mass-rewritten", m.Rewritten}, {"mass-removed", m.Removed}, {"mass-came", m.Came}} {
		if part.n > 0 {
			did = append(did, remark.New(part.code, "n", part.n))
		}
	}
	return did
}

// lasted is how long something took, in the unit that fits, rounded up.
func lasted(d time.Duration) Reason {
	switch {
	case d < 2*time.Minute:
		return remark.New("seconds", "n", int(d.Seconds())+1)
	case d < 2*time.Hour:
		return remark.New("minutes", "n", int(d.Minutes())+1)
	}
	return remark.New("hours", "n", int(d.Hours())+1)
}

// account says what the files came to.
func (c *folderChooser) account() {
	coming := c.Counts[PartCertain] + c.Counts[PartAssumed]
	if c.broken > 0 && c.Mass != nil {
		code := "mass-nature"
		if float64(c.noise) > mostlyNoise*float64(c.broken) {
			code = "mass-noise"
		}
		c.because(code, "n", c.read, "broken", c.broken)
	}
	if c.Loss == Damaged || c.Loss == Overwritten {
		c.accountSingle(coming)
	}
	if coming > 0 {
		rest := remark.New("rest-none")
		if c.Same > 0 {
			rest = remark.New("rest-same", "n", c.Same)
		}
		c.because("each-own", "n", coming, "rest", rest)
		c.sayParts()
	} else if c.Counts[PartMissing] == 0 && c.Mass != nil {
		c.because("nothing-to-bring")
	}
	if c.also > 0 {
		c.because("also-broken", "n", c.also)
	}
	if c.unread > 0 && (c.Loss == Damaged) {
		c.Notes = append(c.Notes, remark.New("not-examined", "n", c.unread))
	}
	if coming+c.Counts[PartMissing]+c.Counts[PartKept]+c.Counts[PartCame] > 0 {
		c.tellCosts()
	}
}

// accountSingle says what came of looking at each file where no mass change is known.
func (c *folderChooser) accountSingle(coming int) {
	if c.Mass != nil {
		return
	}
	n := coming + c.Counts[PartMissing]
	switch {
	case n > 0 && c.Loss == Damaged:
		c.because("single-broken", "n", n)
	case n > 0:
		c.because("single-harmed", "n", n)
	case c.Loss == Overwritten:
		c.because("none-harmed")
	case c.unread > 0:
		c.because("none-read-broken")
	default:
		c.because("none-broken")
	}
	if n == 0 && c.Good.IsZero() {
		c.because("nobody-said")
	}
}

// sayParts says as of which moment each part comes back, where they have different ones.
func (c *folderChooser) sayParts() {
	const most = 6
	at := map[int64]int{}
	for _, e := range c.Entries {
		if e.Copy != 0 && !e.AsOf.IsZero() {
			at[e.AsOf.Truncate(time.Hour).UnixNano()]++
		}
	}
	if len(at) < 2 || len(at) > most {
		return
	}
	var moments []int64
	for m := range at {
		moments = append(moments, m)
	}
	slices.Sort(moments)
	for _, m := range moments {
		latest := time.Time{}
		for _, e := range c.Entries {
			if e.Copy != 0 && e.AsOf.Truncate(time.Hour).UnixNano() == m {
				latest = laterOf(latest, e.AsOf)
			}
		}
		c.because("part-moment", "n", at[m], "at", latest)
	}
}

// tellCosts says what bringing the files back would cost.
func (c *folderChooser) tellCosts() {
	if n := c.Counts[PartAssumed]; n > 0 {
		c.cost("cost-assumed", "n", n)
	}
	if c.window > 0 {
		c.cost("cost-window", "n", c.Counts[PartCertain], "window", c.window)
	}
	if n := c.Counts[PartMissing]; n > 0 {
		c.cost("cost-missing", "n", n)
	}
	if n := c.Counts[PartKept]; n > 0 {
		c.cost("cost-kept", "n", n)
	}
	if n := c.Counts[PartCame]; n > 0 {
		c.cost("cost-came", "n", n)
	}
	if c.unexamined > 0 {
		c.cost("cost-unexamined", "n", c.unexamined)
	}
	if len(c.Costs) == 0 {
		c.cost("costs-nothing")
	}
}
