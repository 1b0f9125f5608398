package authoring

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

// ErrNotTaken is the error of handing in an entry of a type that does not take
// any.
var ErrNotTaken = errors.New("entries of this type cannot be handed in")

// Submit takes in an entry from outside as a draft for review. Nothing of it is
// shown to any reader before it was published. A hidden field that people leave
// empty, and that is not, makes it vanish without a word. Its error is a
// *DeniedError, content.Problems, ErrNotTaken or ErrTooMany where that is the
// reason.
func (a *Service) Submit(
	ctx context.Context, by *access.Principal, plural, locale, address string, values map[string]any,
) error {
	m := a.replica.Model()
	t := m.ByPlural(plural)
	if t == nil {
		return fmt.Errorf("nothing is called %q: %w", plural, db.ErrNotFound)
	}
	l, known := m.Locale(locale)
	if !known {
		return content.Problems{
			{
				Path: "locale",
				Rule: "locale",
				Text: fmt.Sprintf("there is no locale %q%s", locale, strictyaml.DidYouMean(locale, m.Tags())),
			},
		}
	}
	need := access.Need{Verb: access.Submit, Edition: content.Preview, Type: t.Name, Locale: l.Tag}
	if missing, is := by.Rights.Missing([]access.Need{need}); is {
		return &access.DeniedError{Grant: missing}
	}
	s := t.Submissions
	if s == nil {
		return ErrNotTaken
	}
	bounds, at := a.submissionsOf(t.Name, s.PerMinute), access.Network(address)
	if !bounds.tries.Allow(at, time.Now()) {
		return access.ErrTooMany
	}
	if s.Trap != "" {
		if filled, _ := values[s.Trap].(string); strings.TrimSpace(filled) != "" {
			a.trapped.Add(1)
			if !bounds.take(at) {
				return access.ErrTooMany
			}
			return nil
		}
		delete(values, s.Trap)
	}
	fields, err := handedIn(m, t, s, l.Tag, values)
	if err != nil {
		return err
	}
	// Who has mistaken something may try again: that is not counted as handed in.
	if !bounds.take(at) {
		return access.ErrTooMany
	}
	edit := writing.Edit{
		ID:       content.NewID(),
		Type:     t.Name,
		Origin:   content.Local,
		Save:     fields,
		Review:   content.Submitted,
		Remark:   "handed in from outside",
		Message:  "handed in from outside",
		Withhold: true,
		Loose:    true,
	}
	ownSlug(m, t, edit.ID, fields)
	_, err = a.Apply(ctx, []writing.Edit{edit}, by.Name, content.Cause{Kind: "submission", Name: by.Name})
	return err
}

// submissionsOf are the bounds of what is handed in of one type: of one address, and of
// all together, for there are many addresses; and of tries, those that are refused too.
func (a *Service) submissionsOf(typ string, perMinute int) *submitLimits {
	held, known := a.submitting.Load(typ)
	if !known || held.(*submitLimits).perMinute != perMinute {
		limiter := func(times int) *access.Limiter {
			return access.NewLimiter(float64(perMinute*times),
				perMinute*times)
		}
		held = &submitLimits{perMinute, limiter(1), limiter(a.limits.SubmissionsFactor), limiter(triesFactor)}
		a.submitting.Store(typ, held)
	}
	return held.(*submitLimits)
}

// take counts what is handed in from a network.
func (l *submitLimits) take(from string) bool {
	now := time.Now()
	return l.each.Allow(from, now) && l.all.Allow("", now)
}

// triesFactor is how many tries one address has for each submission.
const triesFactor = 4

type submitLimits struct {
	perMinute        int
	each, all, tries *access.Limiter
}

// handedIn takes the values of those fields that may be handed in.
func handedIn(
	m *model.Model, t *model.Type, s *model.Submissions, locale string, values map[string]any,
) (content.Fields, error) {
	fields := content.Fields{}
	var wrong content.Problems
	for name, v := range values {
		if !slices.Contains(s.Fields, name) {
			wrong = append(
				wrong,
				content.Problem{
					Path: name,
					Rule: "unknown",
					Text: fmt.Sprintf(
						"there is no field %q to hand in%s", name, strictyaml.DidYouMean(name, s.Fields),
					),
				},
			)
			continue
		}
		if t.Field(name).Translated {
			v = map[string]any{locale: v}
		}
		fields[name] = v
	}
	for _, name := range s.Fields {
		if f := t.Field(name); f.Required && f.Default == nil && f.MadeFrom == "" &&
			(values[name] == nil || values[name] == "") {
			wrong = append(wrong, content.Problem{Path: name, Rule: "required", Text: "it must be given"})
		}
	}
	// What else is wrong is told at the same time.
	for _, p := range content.Check(m, t, "", content.Normalise(m, t, "", fields), content.For{}) {
		p.Path = strings.TrimSuffix(strings.TrimPrefix(p.Path, "fields."), "."+locale)
		if !slices.ContainsFunc(wrong, func(o content.Problem) bool { return o.Path == p.Path }) {
			wrong = append(wrong, p)
		}
	}
	slices.SortFunc(wrong, func(a, b content.Problem) int { return strings.Compare(a.Path, b.Path) })
	if len(wrong) > 0 {
		return nil, wrong
	}
	return fields, nil
}

// ownSlug gives the entry a slug that nobody has: that one is taken would tell
// what else there is.
func ownSlug(m *model.Model, t *model.Type, id string, fields content.Fields) {
	f := t.SlugField()
	if f == nil {
		return
	}
	made, _ := content.Normalise(m, t, id, fields)[f.Name].(string)
	if len(made) > 60 {
		made = made[:60]
	}
	fields[f.Name] = strings.Trim(strings.Trim(made, "-")+"-"+strings.ToLower(rand.Text()[:6]), "-")
}
