package writing

import (
	"context"
	"fmt"
	"reflect"
	"strings"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// takeFacts has the fields of a file say what its bytes tell, whatever was written there.
func (a *advancing) takeFacts(fields content.Fields) error {
	hash, _ := fields["hash"].(string)
	delete(fields, model.FileField)
	facts, known := a.tx.facts[hash]
	if !known {
		if was, _ := a.next.newest["hash"].(string); was == hash && hash != "" {
			facts, known = a.next.newest, true
		}
	}
	if !known && content.ValidHash(hash) {
		for _, held := range a.next.revisions { // one that is restored
			if held["hash"] == hash {
				facts, known = held, true
			}
		}
	}
	if !known {
		return content.Problems{{
			Entry: a.e.ID, Path: "fields.hash", Rule: "hash",
			Text: "no bytes with this hash are kept here; upload them first (ubiquon file add)",
		}}
	}
	for _, name := range model.FileFacts {
		if delete(fields, name); facts[name] != nil {
			fields[name] = facts[name]
		}
	}
	return nil
}

// unfit says why a field cannot refer to a file.
func (a *advancing) unfit(leaf content.Leaf, id, typ string) content.Problems {
	problem := func(rule, format string, args ...any) content.Problems {
		return content.Problems{{Entry: a.e.ID, Path: leaf.Path, Rule: rule, Text: fmt.Sprintf(format, args...)}}
	}
	f, facts := leaf.Field, a.tx.facts[id]
	if typ != model.FileType {
		return problem("types", "entry %s is a %s, not a file", id, typ)
	}
	mediaType, _ := facts["mediaType"].(string)
	bytes, _ := facts["bytes"].(float64)
	width, _ := facts["width"].(float64)
	switch {
	case facts == nil: // it is written beside this
	case !f.TakesMedia(mediaType):
		return problem("types", "%v is %s; allowed are %s", facts["name"], mediaType, strings.Join(f.Types, ", "))
	case f.MaxBytes > 0 && int64(bytes) > f.MaxBytes:
		return problem("maxBytes", "%v has %.0f bytes, at most %d are allowed", facts["name"], bytes, f.MaxBytes)
	case f.MinWidth > 0 && width > 0 && int(width) < f.MinWidth:
		return problem("minWidth", "%v is %.0f pixels wide, at least %d are wanted", facts["name"], width, f.MinWidth)
	}
	return nil
}

// file is a file as others show it.
func (tx *transaction) file(edition, locale, id string) map[string]any {
	if _, written := tx.next[id]; written {
		value, _ := tx.documents(id)[edition][locale].Fields[model.FileField].(map[string]any)
		return value
	}
	if !tx.asked[id] {
		tx.missing[id] = true
	}
	return tx.files[pathKey{edition, locale, id}]
}

// shownOtherwise tells whether an entry is a file that those show otherwise who refer to it.
func (tx *transaction) shownOtherwise(id string) bool {
	h := tx.held[id]
	if h == nil || h.Type != model.FileType {
		return false
	}
	for _, edition := range content.Editions {
		before, after := h.documents[edition], tx.documents(id)[edition]
		for _, tag := range tx.m.Tags() {
			if !reflect.DeepEqual(before[tag].Fields[model.FileField], after[tag].Fields[model.FileField]) {
				return true
			}
		}
	}
	return false
}

// UnpublishedFiles lists the files that no reader can see so far and that entries show: those
// that are about to be saved, whose files are given, and those as they were saved last.
func (wr *Writer) UnpublishedFiles(ctx context.Context, files, entries []string) ([]string, error) {
	rows, err := wr.db.Conns(ctx).Query(ctx, `select id from entry where environment = $1 and type = 'file'
		and published_revision = 0 and revision > 0 and retired is null and (id = any($2) or id in (
			select split_part(l, '/', 2) from document d, unnest(d.links) l
			where d.environment = $1 and d.edition = 'preview' and d.entry = any($3))) limit 1000`,
		wr.environment, files, entries)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		out = append(out, id)
	}
	return out, rows.Err()
}
