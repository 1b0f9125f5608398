package cache

import (
	"bytes"
	"maps"
	"weak"
)

const (
	// boundEvery is after how many responses the bound is set again.
	boundEvery = 64
	// boundSpare is the part of the bound that is kept free for what comes until then.
	boundSpare = 64
)

// keepBound lets as much weight be held as makes the bound. What a response weighs is
// a guess of what it costs beyond itself: how many others depend on the same things
// is only known of all of them together.
func (c *Cache) keepBound() {
	guessed := c.held.WeightedSize()
	if guessed == 0 {
		return
	}
	really := max(1, c.bytes())
	c.held.SetMaximum(uint64(float64(c.limit-c.limit/boundSpare) * float64(guessed) / float64(really)))
}

// bytes is what all that is held really takes.
func (c *Cache) bytes() int64 {
	return int64(c.held.WeightedSize()) - c.guessed.Load() + int64(c.index.Bytes()) + c.encoded.bytes.Load()
}

// minShared is how long a body is that two copies of would take more than looking
// after one.
const minShared = 512

// share lets the response have the body that another one has, if that is the same.
func (c *Cache) share(r *Response) {
	if r.encoded != nil {
		r.encoded.count = c.encoded
	}
	if len(r.Body) < minShared {
		return
	}
	if len(c.bodies) > c.sweepAt {
		// Whoever has left is found out now and then, all at once: not before there are
		// twice as many, since they may all be there until they are collected.
		maps.DeleteFunc(c.bodies, func(_ string, b weak.Pointer[Content]) bool { return b.Value() == nil })
		c.sweepAt = max(1024, 2*len(c.bodies))
	}
	b := c.bodies[r.tags[0]].Value()
	if b == nil || !bytes.Equal(b.Body, r.Body) {
		c.bodies[r.tags[0]] = weak.Make(r.Content)
		return
	}
	r.Content = b
}
