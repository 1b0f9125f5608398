package query

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// DefaultSort puts what was published first most lately at the top; publishing
// an entry again does not move it.
var DefaultSort = []Sort{{By: "about.firstPublished", Kind: model.DateTime, Descending: true}}

// ParseLimit reads how many entries a list may have, from 0 to MaxLimit.
func ParseLimit(parameter, text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > MaxLimit {
		return 0, failf(parameter, "", "%q is no number from 0 to %d", text, MaxLimit)
	}
	return n, nil
}

// CleanPath checks the path of a site and gives it the form in which paths are
// kept: without a slash at its end.
func CleanPath(path string) (string, error) {
	if !strings.HasPrefix(path, "/") || len(path) > 2000 {
		return "", failf("path", "begin it with a slash, as in path=/notices/fog", "%q is no path of a site", path)
	}
	if path = (&url.URL{Path: path}).EscapedPath(); len(path) > 1 {
		path = strings.TrimSuffix(path, "/")
	}
	return path, nil
}

// ParseOffset reads how many entries of a list are skipped, from 0 to MaxOffset.
func ParseOffset(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > MaxOffset {
		return 0, failf(
			"offset", "go on with after=, whose time does not grow", "%q is no number from 0 to %d", text, MaxOffset,
		)
	}
	return n, nil
}

// SortBy gives a list of a type's entries an order: names, each with a minus before it for
// descending. A name is a sortable field, or published, firstPublished, updated. Without names it is DefaultSort.
func (r *Root) SortBy(t *model.Type, names []string) error {
	known := []string{"published", "firstPublished", "updated"}
	for _, f := range t.Fields {
		if f.Sortable() {
			known = append(known, f.Name)
		}
	}
	var out []Sort
	for _, name := range names {
		s := Sort{}
		s.By, s.Descending = strings.CutPrefix(name, "-")
		f := t.Field(s.By)
		switch {
		case !slices.Contains(known, s.By) && f != nil:
			return failf("sort", "sort by another field", "%s is %s; no list is sorted by that", s.By, kindOf(f))
		case !slices.Contains(known, s.By):
			return failf(
				"sort", strings.TrimPrefix(strictyaml.DidYouMean(s.By, known), "; "),
				"there is nothing named %q to sort %s by", s.By, t.Plural,
			)
		case f != nil:
			s.Kind = f.Kind
		default:
			s.By, s.Kind = "about."+s.By, model.DateTime
		}
		if slices.ContainsFunc(out, func(o Sort) bool { return o.By == s.By }) {
			return failf("sort", "name it once", "%q stands there twice", name)
		}
		out = append(out, s)
	}
	if r.Sort = out; out == nil {
		r.Sort = DefaultSort
	}
	r.Indexed = invalidation.Indexed(t, r.Sort)
	return nil
}

func kindOf(f *model.Field) string {
	if f.Several {
		return "a list"
	}
	return "of the kind " + string(f.Kind)
}

// ParseFilter reads a filter on the entries of a type.
func ParseFilter(parameter, text string, m *model.Model, t *model.Type) (*filter.Filter, error) {
	f, err := filter.Parse(text, m, t)
	var wrong *filter.Error
	if errors.As(err, &wrong) {
		err := failf(parameter, wrong.Hint, "at character %d: %s", wrong.At, wrong.Detail)
		err.At, err.Types = wrong.At, wrong.Types
		return nil, err
	}
	return f, err
}

// Cursor writes a place in the root's list as opaque text. It is valid for the
// same list only: same type, locale, filter and order.
func (r *Root) Cursor(at Position) string {
	src, err := json.Marshal(struct {
		Position
		List string `json:"list"`
	}{at, r.listMark()})
	if err != nil {
		panic("query: " + err.Error())
	}
	return base64.RawURLEncoding.EncodeToString(src)
}

// ParseCursor reads what Cursor has written. The root's type, locale and sort
// must be set.
func (r *Root) ParseCursor(parameter, text string) (*Position, error) {
	bad := failf(
		parameter, "take the cursor from the answer's window as it is, and keep sort, filter and locale",
		"this is no cursor of this list",
	)
	src, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(src) > 8<<10 {
		return nil, bad
	}
	var in struct {
		Position
		List string `json:"list"`
	}
	if json.Unmarshal(src, &in) != nil || in.List != r.listMark() || len(in.Values) != len(r.Sort) || in.ID == "" ||
		strings.ContainsRune(in.ID, 0) {
		return nil, bad
	}
	for i, v := range in.Values {
		if !fits(r.Sort[i].Kind, v) {
			return nil, bad
		}
	}
	return &in.Position, nil
}

// fits tells whether the text can be a value of the kind.
func fits(kind model.Kind, v *string) bool {
	if v == nil {
		return true
	}
	var err error
	switch kind {
	case model.Integer, model.Money:
		_, err = strconv.ParseInt(*v, 10, 64)
	case model.Decimal:
		_, err = strconv.ParseFloat(*v, 64)
	case model.Boolean:
		_, err = strconv.ParseBool(*v)
	case model.DateTime:
		_, err = time.Parse(time.RFC3339, *v)
	}
	return err == nil && !strings.ContainsRune(*v, 0)
}

func (r *Root) listMark() string {
	if r.mark != "" {
		return r.mark
	}
	src, _ := json.Marshal([]any{r.Type, r.Locale, r.Field, r.Sort, r.Filter})
	sum := sha256.Sum256(src)
	return base64.RawURLEncoding.EncodeToString(sum[:6])
}
