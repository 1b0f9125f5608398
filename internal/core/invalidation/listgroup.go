package invalidation

import (
	"slices"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/filter"
)

// listGroup is the windows of one template.
type listGroup struct {
	template
	key     string
	edition string
	windows []*windowGroup
	visit   uint32
}

// listsOfType are the templates that entries of one type may matter to.
type listsOfType struct {
	byValue map[string]map[string][]*listGroup // field, value
	others  []*listGroup
	// watching have dotted names that lead to, or through, the type.
	watching []*listGroup
}

// maxTried is how many filters of one type are tried, one by one; those of the
// others are affected by whatever happens to the type.
const maxTried = 2000

// byValue says by which values of which field a list is found; "" if it must be
// tried.
func (l *listGroup) byValue() (field string, values []string) {
	if l.Field != "" {
		return l.Field, []string{l.Target}
	}
	if l.Filter != nil {
		return l.Filter.Equalities()
	}
	return "", nil
}

func (x *Index[S]) ofType(edition, locale, typ string) *listsOfType {
	key := space{edition, locale, typ}
	t := x.types[key]
	if t == nil {
		t = &listsOfType{byValue: map[string]map[string][]*listGroup{}}
		x.types[x.own(key)] = t
	}
	return t
}

func (x *Index[S]) enlist(l *listGroup) {
	t := x.ofType(l.edition, l.Locale, l.Type)
	if field, values := l.byValue(); field != "" {
		per := t.byValue[field]
		if per == nil {
			per = map[string][]*listGroup{}
			t.byValue[field] = per
		}
		for _, v := range values {
			per[v] = append(per[v], l)
		}
	} else {
		t.others = append(t.others, l)
	}
	for _, typ := range l.timeTriggerFields() {
		w := x.ofType(l.edition, l.Locale, typ)
		w.watching = append(w.watching, l)
	}
}

func (x *Index[S]) delist(l *listGroup) {
	t := x.ofType(l.edition, l.Locale, l.Type)
	without := func(all []*listGroup) []*listGroup {
		return slices.DeleteFunc(all, func(o *listGroup) bool { return o == l })
	}
	if field, values := l.byValue(); field != "" {
		for _, v := range values {
			if t.byValue[field][v] = without(t.byValue[field][v]); len(t.byValue[field][v]) == 0 {
				delete(t.byValue[field], v)
			}
		}
	} else {
		t.others = without(t.others)
	}
	for _, typ := range l.timeTriggerFields() {
		w := x.ofType(l.edition, l.Locale, typ)
		w.watching = without(w.watching)
	}
}

// each calls f for the lists that an entry may matter to, some of them twice.
func (t *listsOfType) each(s *documentDelta, f func(*listGroup)) {
	for i, l := range t.others {
		if i < maxTried {
			f(l)
		}
	}
	for field, lists := range t.byValue {
		for _, values := range []content.Fields{s.before, s.after} {
			if values == nil {
				continue
			}
			texts := filter.Texts(values[field])
			if field == "id" {
				texts = []string{s.id}
			}
			for _, v := range texts {
				for _, l := range lists[v] {
					f(l)
				}
			}
		}
	}
}
