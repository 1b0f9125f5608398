package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/entries"
)

func (a *app) entry() *cobra.Command {
	return noun(
		"entry", "Write, publish and look at entries", a.entryList(), a.entryShow(), a.entryCreate(), a.entryEdit(),
		a.entryDiff(), a.entryPublish(), a.entryUnpublish(), a.entrySchedule(), a.entrySubmit(), a.entryApprove(),
		a.entryReturn(), a.entryDiscard(), a.entryRestore(), a.entryPreview(), a.entryDuplicate(), a.entryRetire(),
		a.entryDelete(), a.entryImport(), a.entryExport(),
	)
}

// filterFlags are the flags that narrow a list of entries.
func filterFlags(c *cobra.Command, f *entries.EntryFilter) {
	fl := c.Flags()
	fl.StringVar(&f.Type, "type", "", "only entries of this type")
	fl.StringVar(&f.Origin, "origin", "", "only entries from this origin")
	fl.StringVar(
		(*string)(&f.State), "state", "",
		"only those in this state: draft, 'in review', scheduled, published, revised or retired",
	)
	fl.StringVar(&f.Search, "search", "", "only those with this in title, slug or id")
	fl.StringVar(&f.Missing, "missing", "", "only those not wholly translated into this locale")
}

func (a *app) entryList() *cobra.Command {
	var f entries.EntryFilter
	list := &cobra.Command{
		Use: "list", Short: "List entries, those saved last first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			if err := checkState(f.State); err != nil {
				return err
			}
			items, total, err := s.Entries().List(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": items, "total": total}, func(t *table) {
				t.row("ID", "TYPE", "STATE", "REV", "LOCALES", "SAVED", "TITLE")
				for _, e := range items {
					t.row(
						e.ID, e.Type, e.State, e.Revision, localesText(e.Locales), when(&e.Updated),
						t.short(e.Title, 28),
					)
				}
				if total > len(items) {
					t.line(fmt.Sprintf("%d of %d; see more with --limit and --offset", len(items), total))
				}
			})
		},
	}
	filterFlags(list, &f)
	list.Flags().StringVar(&f.RefersTo, "refers-to", "", "only those that refer to this entry")
	list.Flags().IntVar(&f.Limit, "limit", 50, "how many at most")
	list.Flags().IntVar(&f.Offset, "offset", 0, "leave out the first ones")
	return list
}

func checkState(state content.State) error {
	if state != "" && !slices.Contains(content.States, state) {
		return misusef("--state is draft, 'in review', scheduled, published, revised or retired, not %q", state)
	}
	return nil
}

// localesText names the locales that an entry can be read in; what is filled in,
// wholly or partly, stands in brackets or with a tilde.
func localesText(locales map[string]string) string {
	var out []string
	for _, tag := range sortedNames(locales) {
		switch locales[tag] {
		case entries.FilledIn:
			tag = "(" + tag + ")"
		case entries.Partly:
			tag = "~" + tag
		}
		out = append(out, tag)
	}
	return strings.Join(out, " ")
}

// find returns the id of an entry that is named by id, or as type/slug.
func (a *app) find(ctx context.Context, s *client.Client, name string) (string, error) {
	typ, slug, bySlug := strings.Cut(name, "/")
	if !bySlug {
		return name, nil
	}
	items, _, err := s.Entries().List(ctx, entries.EntryFilter{Type: typ, Search: slug, Limit: 2})
	if err != nil {
		return "", err
	}
	if len(items) != 1 {
		return "", &client.Problem{
			Status: http.StatusNotFound,
			Title:  "Not found",
			Detail: fmt.Sprintf(
				"%d entries of type %q fit %q; name one by its id, see: ubiquon entry list --type %s --search %s",
				len(items), typ, slug, typ, slug,
			),
		}
	}
	return items[0].ID, nil
}

// named returns the service, and the id of the entry that is named.
func (a *app) named(cmd *cobra.Command, name string) (*client.Client, string, error) {
	s, err := a.service()
	if err != nil {
		return nil, "", err
	}
	id, err := a.find(cmd.Context(), s, name)
	return s, id, err
}

func (a *app) entryShow() *cobra.Command {
	var revision int
	show := &cobra.Command{
		Use: "show ID|TYPE/SLUG", Short: "Show one entry: its fields, revisions, schedules and changes",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.named(cmd, args[0])
			if err != nil {
				return err
			}
			if revision > 0 {
				r, err := s.Entries().Revision(cmd.Context(), id, revision)
				if err != nil {
					return err
				}
				return a.print(r, func(t *table) {
					t.row("revision", r.Number)
					t.row("saved", when(&r.At)+" by "+r.By)
					t.row("message", orDash(r.Message))
					drawFields(t, r.Fields)
				})
			}
			e, err := s.Entries().Get(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.print(e, func(t *table) {
				t.row("id", e.ID)
				t.row("title", e.Title)
				t.row("type", e.Type)
				t.row("state", e.State)
				t.row("origin", strings.TrimSpace(e.Origin+" "+e.OriginKey))
				if e.EditAt != "" {
					t.row("edit at", e.EditAt)
				}
				t.row("locales", localesText(e.Locales))
				t.row("readers have", orDash(strings.Join(e.Live, " ")))
				t.row(
					"published",
					fmt.Sprintf("%s (revision %d of %d)", when(e.Published), e.PublishedRevision, e.Revision),
				)
				for _, sch := range e.Schedules {
					if sch.State == entries.SchedulePending {
						t.row(
							"scheduled",
							sch.Action+" "+strings.Join(
								sch.Locales, " ",
							)+" at "+sch.At.Local().
								Format("2006-01-02 15:04:05")+
								" ("+sch.ID+")",
						)
					}
				}
				if len(e.Reviews) > 0 {
					r := e.Reviews[0]
					t.row(
						"review",
						strings.TrimSpace(fmt.Sprintf("revision %d %s by %s %s", r.Revision, r.What, r.By, r.Remark)),
					)
				}
				for _, path := range e.FormerPaths {
					t.row("lived at", path)
				}
				for _, r := range e.ReferredBy {
					t.row("referred to by", fmt.Sprintf("%s %s, in %s", r.Type, t.short(r.Title, 40), r.Field))
				}
				drawFields(t, e.Newest)
				t.line("")
				t.row("REVISION", "SAVED", "BY", "MESSAGE")
				for _, r := range e.Revisions {
					t.row(r.Number, when(&r.At), t.short(r.By, 20), t.short(orDash(r.Message), 40))
				}
				t.line("")
				t.row("SEQUENCE", "AT", "EDITION", "WHAT", "LOCALES")
				for _, c := range e.Changes {
					t.row(c.Sequence, when(&c.At), c.Edition, c.What, strings.Join(sortedNames(c.Fields), " "))
				}
			})
		},
	}
	show.Flags().IntVar(&revision, "revision", 0, "show this revision instead")
	return show
}

func drawFields(t *table, fields content.Fields) {
	t.line("")
	for _, name := range sortedNames(fields) {
		t.row("  "+name, t.short(plainJSON(fields[name]), 76))
	}
}

func (a *app) entryDiff() *cobra.Command {
	var from, to int
	diff := &cobra.Command{
		Use: "diff ID|TYPE/SLUG", Short: "Compare what readers get with the newest draft, or two revisions",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.named(cmd, args[0])
			if err != nil {
				return err
			}
			c, err := s.Entries().Compare(cmd.Context(), id, from, to)
			if err != nil {
				return err
			}
			return a.print(c, func(t *table) {
				if len(c.Differences) == 0 {
					t.line("No difference.")
					return
				}
				before := "PUBLISHED"
				if c.From > 0 {
					before = fmt.Sprintf("REVISION %d", c.From)
				}
				t.row("FIELD", "LOCALE", before, fmt.Sprintf("REVISION %d", c.To))
				drawDifferences(t, c.Differences)
			})
		},
	}
	diff.Flags().IntVar(&from, "from", 0, "the earlier revision; 0 is what readers get")
	diff.Flags().IntVar(&to, "to", 0, "the later revision; 0 is the newest")
	return diff
}

func drawDifferences(t *table, all []content.FieldDifference) {
	for _, d := range all {
		before, after := []rune(valueText(d.Before)), []rune(valueText(d.After))
		// Long texts are shown from where they begin to differ.
		same := 0
		for same < len(before) && same < len(after) && before[same] == after[same] {
			same++
		}
		from := 0
		if max(len(before), len(after)) > 34 {
			from = max(0, same-12)
		}
		t.row(d.Field, orDash(d.Locale), t.shortFrom(before, from), t.shortFrom(after, from))
	}
}

func valueText(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	if v == nil {
		return ""
	}
	return plainJSON(v)
}

// plainJSON writes what came as JSON, as people read it.
func plainJSON(v any) string {
	var out strings.Builder
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(v) // it came as JSON
	return strings.TrimSpace(out.String())
}

func (t *table) shortFrom(text []rune, from int) string {
	if t.width > 0 && from > 0 && from < len(text) {
		return "…" + t.short(string(text[from:]), 33)
	}
	return orDash(t.short(string(text), 34))
}
