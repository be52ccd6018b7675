package fetch

import (
	"fmt"
	"io"

	"morvant/internal/feed"
	"morvant/internal/volume"
)

// spoolPart is how much of an answer of unknown length is in memory at a time, in bytes.
const spoolPart = 256 << 10

// readOpen reads an answer to its end, into the spool. Nobody knows how much there is: where the line breaks, it comes
// from the beginning.
func (d *delivery) readOpen(in io.Reader, c *span) (n int, err error) {
	d.spools.Do(func() { d.spool, d.noSpool = volume.NewSpool(d.plan.request.Store.Dir()) })
	if d.noSpool != nil {
		return 0, &feed.StoreError{Err: d.noSpool}
	}
	in = io.LimitReader(in, c.to-c.from)
	buf := make([]byte, spoolPart)
	for c.spooled = 0; ; c.spooled++ {
		k := 0
		var err error
		for k < len(buf) && err == nil { // io.ReadFull would not tell the end from a line that breaks
			var more int
			more, err = in.Read(buf[k:])
			k += more
		}
		n += k
		d.arrived.Add(int64(k))
		d.meter.Advance(int64(k), c.piece.file.path)
		if err := d.spool.Put(c.spoolName(c.spooled), buf[:k]); err != nil {
			return n, &feed.StoreError{Err: err}
		}
		switch {
		case err == io.EOF:
			c.spooled++
			return n, nil
		case err != nil:
			return n, err
		}
	}
}

// spoolName names a part of an answer in the spool.
func (c *span) spoolName(i int) string { return fmt.Sprintf("%s %d", c.piece.name, i) }

// unspooling reads an answer that is in the spool.
type unspooling struct {
	d    *delivery
	c    *span
	next int
	rest []byte
}

func (u *unspooling) Read(b []byte) (int, error) {
	for len(u.rest) == 0 {
		if u.next == u.c.spooled {
			return 0, io.EOF
		}
		var err error
		if u.rest, err = u.d.spool.Get(u.c.spoolName(u.next)); err != nil {
			return 0, &feed.StoreError{Err: err}
		}
		u.next++
	}
	n := copy(b, u.rest)
	u.rest = u.rest[n:]
	return n, nil
}
