package diagnose

import (
	"errors"
	"regexp"
	"slices"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/identity"
)

// refusals remembers the last refusals, of the same thing the last one only.
type refusals struct {
	mu   sync.Mutex
	last []api.Refusal
	tell bool // the console is about to be told
}

var likeSecret = regexp.MustCompile(`ubq_[0-9A-Za-z]*|ubv_[0-9A-Za-z_.-]*|eyJ[0-9A-Za-z_.-]+`)

// NoteRefusal remembers a refusal.
func (d *Service) NoteRefusal(r api.Refusal) {
	r.Request = likeSecret.ReplaceAllString(access.Printable(r.Request), "…")
	r.Agent, r.Detail, r.Reader = access.Printable(r.Agent), access.Printable(r.Detail), access.Printable(r.Reader)
	d.refusals.mu.Lock()
	defer d.refusals.mu.Unlock()
	all := slices.DeleteFunc(
		d.refusals.last,
		func(o api.Refusal) bool { return o.Request == r.Request && o.Key == r.Key && o.Address == r.Address },
	)
	if len(all) >= d.limits.Refusals {
		all = all[1:]
	}
	d.refusals.last = append(all, r)
	if !d.refusals.tell {
		// There may be thousands; once now and then is enough.
		d.refusals.tell = true
		time.AfterFunc(300*time.Millisecond, func() {
			d.refusals.mu.Lock()
			d.refusals.tell = false
			d.refusals.mu.Unlock()
			d.news.Tell("refusals")
		})
	}
}

// Refusals returns the last refusals of this node, the newest first.
func (d *Service) Refusals() []api.Refusal {
	d.refusals.mu.Lock()
	defer d.refusals.mu.Unlock()
	out := slices.Clone(d.refusals.last)
	slices.Reverse(out)
	return out
}

// IsBadKey tells whether an error of Authenticate says that a key is not good.
func IsBadKey(err error) bool {
	var token *identity.TokenError
	return errors.As(err, &token) ||
		slices.ContainsFunc(
			[]error{
				access.ErrMalformed, identity.ErrUnknownKey, access.ErrExpired, access.ErrRevoked, access.ErrRotated,
				access.ErrPreviewOver, access.ErrPreviewRevoked,
			},
			func(one error) bool { return errors.Is(err, one) },
		)
}
