package rule

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
)

// Occurrence is something that has happened, as rules see it. In JSON it is what is kept of it
// for the steps of a rule.
type Occurrence struct {
	// Event is one of Events, or Clock.
	Event string    `json:"event"`
	At    time.Time `json:"at"`
	// Sequence of the change; 0 where no reader could see a difference.
	Sequence int64 `json:"sequence,omitempty"`
	// Signal is the number of what was no change; 0 for changes.
	Signal int64 `json:"signal,omitempty"`
	// Type and Entry are empty for what is about no entry.
	Type  string `json:"type,omitempty"`
	Entry string `json:"entry,omitempty"`
	Title string `json:"title,omitempty"`
	// Locales in which a reader sees a difference, and the names of the fields that differ.
	Locales []string `json:"locales,omitempty"`
	Changed []string `json:"changed,omitempty"`
	// By is who did it: an e-mail address, the name of a key, or of an origin. Role is that of
	// an account.
	By   string `json:"by,omitempty"`
	Role string `json:"role,omitempty"`
	// Origin that the entry's change came from, local if it was made here.
	Origin string `json:"origin,omitempty"`
	// Subject is what an event of the service is about: a site, an origin, a node; Detail says
	// more, in words.
	Subject string `json:"subject,omitempty"`
	Detail  string `json:"detail,omitempty"`
	// After and Before are the values that filters use, in the default locale or, where there
	// is no document in it, in the first that has one.
	After  content.Fields `json:"after,omitempty"`
	Before content.Fields `json:"before,omitempty"`
	// Slugs and Paths are, by locale, those that the entry has, or had.
	Slugs map[string]string `json:"slugs,omitempty"`
	Paths map[string]string `json:"paths,omitempty"`
	// Chain has the rules whose consequence this is, the first one first.
	Chain []string `json:"chain,omitempty"`
	// Announced is the id of the announcement that it came with.
	Announced string `json:"announced,omitempty"`
}

// OccurrenceOf returns what a change is to rules; nil for one that no rule is for. The published
// edition's change speaks for both editions, except for saving.
func OccurrenceOf(m *model.Model, c *content.Change) *Occurrence {
	if c.Kind != content.ContentChange || (c.Edition == content.Preview) != (c.What == Saved) {
		return nil
	}
	o := &Occurrence{
		Event: c.What, At: c.At, Sequence: c.Sequence, Type: c.Type, Entry: c.Entry,
		Locales: slices.Sorted(maps.Keys(c.Fields)), Changed: changedFields(c),
		By: c.Cause.Name, Origin: content.Local, Chain: c.Cause.Chain, Announced: c.Cause.Event,
		After: valuesOf(m, c.After), Before: valuesOf(m, c.Before),
	}
	if c.Cause.Kind == "event" || c.Cause.Kind == "reconcile" {
		o.Origin = c.Cause.Name
	}
	o.Slugs, o.Paths = c.Places()
	if t := m.Type(c.Type); t != nil && t.Title != "" {
		o.Title, _ = o.values()[t.Title].(string)
	}
	return o
}

// Cause is what a build is told of the occurrence, which a rule, if named, acted on.
func (o *Occurrence) Cause(name string) rebuild.Cause {
	return rebuild.Cause{
		Sequence: o.Sequence, Rule: name, Entry: o.Entry, Type: o.Type, What: o.Event, Event: o.Announced,
		Locales: o.Locales, Slugs: o.Slugs, Paths: o.Paths,
	}
}

// values are those afterwards, or, where there is nothing any more, those before.
func (o *Occurrence) values() content.Fields {
	if o.After != nil {
		return o.After
	}
	return o.Before
}

func changedFields(c *content.Change) []string {
	seen := map[string]bool{}
	for _, names := range c.Fields {
		for _, name := range names {
			if field, _, _ := strings.Cut(name, "."); field != "about" {
				seen[field] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

func valuesOf(m *model.Model, byLocale map[string]content.Fields) content.Fields {
	if v, ok := byLocale[m.Default()]; ok {
		return v
	}
	for _, tag := range m.Tags() {
		if v, ok := byLocale[tag]; ok {
			return v
		}
	}
	return nil
}

// longestDifference bounds how much of a value Differences shows, in characters.
const longestDifference = 200

// inWords are the kinds of field whose values Differences shows.
var inWords = []model.Kind{
	model.Text, model.Slug, model.Choice, model.Integer, model.Decimal, model.Boolean, model.Date, model.DateTime,
}

// Differences says in words what differs, a line for each field.
func (o *Occurrence) Differences(m *model.Model) string {
	var b strings.Builder
	t := m.Type(o.Type)
	for _, name := range o.Changed {
		was, is := shown(o.Before[name]), shown(o.After[name])
		if t != nil {
			if f := t.Field(name); f == nil || !slices.Contains(inWords, f.Kind) {
				was, is = "", ""
			}
		}
		switch {
		case was == is:
			fmt.Fprintf(&b, "%s changed\n", name)
		case was == "":
			fmt.Fprintf(&b, "%s: %s\n", name, is)
		case is == "":
			fmt.Fprintf(&b, "%s: no longer %s\n", name, was)
		default:
			fmt.Fprintf(&b, "%s: %s → %s\n", name, was, is)
		}
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// shown writes a value in a line.
func shown(v any) string {
	var text string
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		text = v
	default:
		src, _ := json.Marshal(v) // came out of JSON
		text = string(src)
	}
	text = strings.Join(strings.Fields(text), " ")
	if r := []rune(text); len(r) > longestDifference {
		text = string(r[:longestDifference]) + "…"
	}
	return text
}
