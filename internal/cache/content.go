package cache

import (
	"strconv"

	"github.com/cespare/xxhash/v2"
)

// Content is the bytes of a response, with what follows from them.
type Content struct {
	Body    []byte
	tags    [2]string // the entity tag and the length
	encoded *variants
}

// NewContent takes a body, which nobody may change any more.
func NewContent(body []byte) *Content {
	c := &Content{Body: body, tags: [2]string{EntityTag(body), strconv.Itoa(len(body))}}
	if len(body) >= MinEncoded {
		c.encoded = &variants{}
	}
	return c
}

// ETag is the strong entity tag, as a header's value.
func (c *Content) ETag() []string { return c.tags[:1:1] }

// Length is how long the body is, as a header's value.
func (c *Content) Length() []string { return c.tags[1:] }

// EntityTag is a strong entity tag: equal for equal bytes on every node. Two
// versions of one address need to differ, and nobody gains by making them
// collide, so a fast hash of 64 bits does.
func EntityTag(body []byte) string {
	return `"` + strconv.FormatUint(xxhash.Sum64(body), 36) + "-" + strconv.FormatInt(int64(len(body)), 36) + `"`
}
