package origin

import (
	"net/url"
	"strconv"
	"strings"
)

// pageAt is where in a list a page is.
type pageAt struct {
	link   string // of the page, where it is given whole
	number int
	offset int
	cursor string
	since  string // the time since which items are listed that have changed; "" for all
}

func (o *overHTTP) firstPage() pageAt { return pageAt{number: o.s.Config.Pull.Page.First} }

// address is that of the page.
func (p pageAt) address(o *overHTTP, typ string) string {
	paging := o.s.Config.Pull.Page
	at := p.link
	if at == "" {
		at = o.listAddress(typ)
	}
	if p.link != "" || o.s.Config.Types[typ].List.Body != nil {
		return at
	}
	values := url.Values{}
	if p.since != "" {
		values.Set(o.s.Config.Pull.UpdatedSince, p.since)
	}
	if paging.Number != "" {
		values.Set(paging.Number, strconv.Itoa(p.number))
	}
	if paging.Offset != "" {
		values.Set(paging.Offset, strconv.Itoa(p.offset))
	}
	if paging.Cursor != "" && p.cursor != "" {
		values.Set(paging.Cursor, p.cursor)
	}
	if paging.SizeAs != "" && paging.Size > 0 {
		values.Set(paging.SizeAs, strconv.Itoa(paging.Size))
	}
	if len(values) == 0 {
		return at
	}
	if strings.Contains(at, "?") {
		return at + "&" + values.Encode()
	}
	return at + "?" + values.Encode()
}

// body is what is sent for the page; nil for nothing.
func (p pageAt) body(o *overHTTP, typ string) any {
	values := map[string]any{
		"kind": o.s.Config.Kind(
			typ,
		), "page": p.number, "offset": p.offset, "cursor": nil, "size": o.s.Config.Pull.Page.Size,
		"since": nil,
	}
	if p.since != "" {
		values["since"] = p.since
	}
	if p.cursor != "" {
		values["cursor"] = p.cursor
	}
	return fill(o.s.Config.Types[typ].List.Body, values)
}

// next is where the page after is; ok is false where there is none.
func (p pageAt) next(o *overHTTP, typ string, a answer, items int) (next pageAt, ok bool, err error) {
	paging := o.s.Config.Pull.Page
	last := items == 0 || paging.Size > 0 && items < paging.Size
	switch {
	case paging.Link:
		return pageAt{link: a.next, since: p.since}, a.next != "", nil
	case paging.Cursor != "":
		cursor, err := o.s.paths[typ].Text(paging.Next, a.body)
		return pageAt{cursor: cursor, since: p.since}, cursor != "" && cursor != p.cursor, err
	case paging.Number != "":
		p.number++
		return p, !last, nil
	case paging.Offset != "":
		p.offset += items
		return p, !last, nil
	}
	return p, false, nil
}
