package condition

import (
	"errors"
	"slices"

	"humble-rewind/internal/core/remark"
)

// jpegPart is what a scan holds of its components.
type jpegPart struct{ from, to, high, low int }

// scan follows the data of one scan.
func (d *jpegData) scan(b []byte) error {
	if len(b) < 1 || len(d.components) == 0 || len(b) < 4+2*int(b[0]) {
		return errJPEGUnknown
	}
	var of []*jpegComponent
	for i := range int(b[0]) {
		for k := range d.components {
			if c := &d.components[k]; c.id == int(b[1+2*i]) {
				c.dc, c.ac = int(b[2+2*i]>>4), int(b[2+2*i]&15)
				if c.dc > 3 || c.ac > 3 {
					return errJPEGUnknown
				}
				of = append(of, c)
			}
		}
	}
	rest := b[1+2*int(b[0]):]
	p := jpegPart{int(rest[0]), int(rest[1]), int(rest[2] >> 4), int(rest[2] & 15)}
	if len(of) != int(b[0]) || p.to > 63 || p.from > p.to || p.from > 0 && len(of) != 1 || !d.progressive && (p.from != 0 || p.to != 63) {
		return errJPEGUnknown
	}
	for _, c := range of {
		if p.from == 0 && p.high == 0 && !d.tables[0][c.dc].set || p.to > 0 && !d.tables[1][c.ac].set {
			return errJPEGUnknown
		}
	}
	begin := d.at
	if err := d.blocks(of, p); err != nil {
		if errors.Is(err, errMarker) {
			return jpegWrong("jpeg-ends", d.at)
		}
		return err
	}
	return d.endScan(of, p, begin)
}

// blocks follows the blocks of a scan.
func (d *jpegData) blocks(of []*jpegComponent, p jpegPart) error {
	units := d.mcuW * d.mcuH
	if len(of) == 1 {
		units = of[0].own * of[0].rows
	}
	d.begin(of)
	for unit := range units {
		if d.restart > 0 && unit > 0 && unit%d.restart == 0 {
			if err := d.restarted(unit/d.restart - 1); err != nil {
				return err
			}
			d.begin(of)
		}
		for _, c := range of {
			if len(of) == 1 {
				if err := d.block(c, p, unit/c.own*c.wide+unit%c.own); err != nil {
					return err
				}
				continue
			}
			x, y := unit%d.mcuW, unit/d.mcuW
			for i := range c.h * c.v {
				if err := d.block(c, p, (y*c.v+i/c.h)*c.wide+x*c.h+i%c.h); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (d *jpegData) begin(of []*jpegComponent) {
	d.bits, d.n, d.eobRun = 0, 0, 0
	for _, c := range of {
		c.last = 0
	}
}

// restarted takes the marker between two intervals (E.1.4).
func (d *jpegData) restarted(k int) error {
	if d.n >= 8 || d.at+2 > len(d.b) || d.b[d.at] != 0xff || d.b[d.at+1] != byte(0xd0+k%8) {
		return jpegWrong("jpeg-interval", d.at)
	}
	d.at += 2
	return nil
}

// endScan tells whether the data ends where the last block does. What is left to a byte is filled with ones.
func (d *jpegData) endScan(of []*jpegComponent, p jpegPart, begin int) error {
	if d.n >= 8 {
		d.at -= d.n / 8
	}
	left := 0
	for at := d.at; at < len(d.b); at++ {
		if d.b[at] == 0xff && at+1 < len(d.b) && d.b[at+1] != 0 && d.b[at+1] != 0xff && (d.b[at+1] < 0xd0 || d.b[at+1] > 0xd7) {
			d.at = at
			break
		}
		left++
	}
	const stuffing = 16
	if left > stuffing {
		return &jpegError{remark.New("jpeg-left", "n", left, "at", d.at-left)}
	}
	d.followed = true
	return d.zeros(of, p, begin)
}

// zeros looks for a run of zero bytes that no picture leaves: where the shortest code of a table does not say that a block is empty, zeros are
// blocks full of the finest detail.
func (d *jpegData) zeros(of []*jpegComponent, p jpegPart, begin int) error {
	const enough = 16
	if p.to == 0 || p.high > 0 {
		return nil
	}
	if !slices.ContainsFunc(of, func(c *jpegComponent) bool {
		t := &d.tables[1][c.ac]
		return len(t.symbol) > 0 && t.symbol[0]&15 != 0
	}) {
		return nil
	}
	run := 0
	for at := begin; at < d.at; at++ {
		if d.b[at] != 0 {
			run = 0
			continue
		}
		if run++; run >= enough {
			return jpegWrong("jpeg-zeros", at-run+1)
		}
	}
	return nil
}

// block follows one block.
func (d *jpegData) block(c *jpegComponent, p jpegPart, at int) error {
	if d.work++; d.work > maxWork {
		return errJPEGUnknown
	}
	if d.progressive && p.high > 0 {
		return d.refine(c, p, at)
	}
	k := p.from
	if k == 0 {
		if err := d.difference(c, p.low); err != nil {
			return err
		}
		k++
	}
	if k > p.to {
		return nil
	}
	if d.eobRun > 0 {
		d.eobRun--
		return nil
	}
	t := &d.tables[1][c.ac]
	for k <= p.to {
		value, err := d.decode(t)
		if err != nil {
			return err
		}
		run, size := value>>4, value&15
		if size == 0 {
			if run < 15 {
				if d.progressive {
					more, err := d.take(run)
					if err != nil {
						return err
					}
					d.eobRun = 1<<run + more - 1
				} else if run != 0 {
					return jpegWrong("jpeg-meaningless", d.at)
				}
				return nil
			}
			k += 16
			if k > p.to+1 {
				return jpegWrong("jpeg-overfull", d.at)
			}
			continue
		}
		if k += run; k > p.to {
			return jpegWrong("jpeg-overfull", d.at)
		}
		if size > 10 {
			return jpegWrong("jpeg-number", d.at)
		}
		amount, err := d.take(size)
		if err != nil {
			return err
		}
		if err := d.light(c, k, signed(amount, size), p.low); err != nil {
			return err
		}
		if c.nonzero != nil {
			c.nonzero[at] |= 1 << k
		}
		k++
	}
	return nil
}

// difference follows the first coefficient of a block.
func (d *jpegData) difference(c *jpegComponent, low int) error {
	size, err := d.decode(&d.tables[0][c.dc])
	if err != nil {
		return err
	}
	if size > 11 {
		return jpegWrong("jpeg-number", d.at)
	}
	value, err := d.take(size)
	if err != nil {
		return err
	}
	c.last += signed(value, size)
	return d.light(c, 0, c.last, low)
}

// refine follows a block of a scan that makes earlier ones finer (G.1.2.3).
func (d *jpegData) refine(c *jpegComponent, p jpegPart, at int) error {
	if p.from == 0 {
		_, err := d.take(1)
		return err
	}
	k := p.from
	if d.eobRun == 0 {
		t := &d.tables[1][c.ac]
	coefficients:
		for k <= p.to {
			value, err := d.decode(t)
			if err != nil {
				return err
			}
			run, size := value>>4, value&15
			switch {
			case size == 0 && run < 15:
				more, err := d.take(run)
				if err != nil {
					return err
				}
				d.eobRun = 1<<run + more
				break coefficients
			case size > 1:
				return jpegWrong("jpeg-meaningless", d.at)
			case size == 1:
				if _, err := d.take(1); err != nil {
					return err
				}
			}
			if k, err = d.finer(c, at, k, p.to, run); err != nil {
				return err
			}
			if k > p.to && (size == 1 || run < 15) {
				return jpegWrong("jpeg-overfull", d.at)
			}
			if size == 1 {
				c.nonzero[at] |= 1 << k
			}
			k++
		}
	}
	if d.eobRun > 0 {
		d.eobRun--
		_, err := d.finer(c, at, k, p.to, 64)
		return err
	}
	return nil
}

// finer takes a bit for each coefficient that is not zero already, and passes over so many that are.
func (d *jpegData) finer(c *jpegComponent, at, k, to, zeros int) (int, error) {
	for ; k <= to; k++ {
		if c.nonzero[at]&(1<<k) == 0 {
			if zeros == 0 {
				break
			}
			zeros--
			continue
		}
		if _, err := d.take(1); err != nil {
			return k, err
		}
	}
	return k, nil
}
