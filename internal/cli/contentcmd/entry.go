package contentcmd

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/entries"
)

// Entry returns the command entry.
func (a *Commands) Entry() *cobra.Command {
	return command.Noun(
		"entry", "Write, publish and look at entries", a.entryList(), a.entryShow(), a.entryCreate(), a.entryEdit(),
		a.entryDiff(), a.entryPublish(), a.entryUnpublish(), a.entrySchedule(), a.entrySubmit(), a.entryApprove(),
		a.entryReturn(), a.entryDiscard(), a.entryRestore(), a.entryPreview(), a.entryDuplicate(), a.entryRetire(),
		a.entryDelete(), a.entryImport(), a.entryExport(),
	)
}

// filterFlags are the flags that narrow a list of entries.
func filterFlags(c *cobra.Command, f *api.EntryFilter) {
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

func (a *Commands) entryList() *cobra.Command {
	var f api.EntryFilter
	list := &cobra.Command{
		Use: "list", Short: "List entries, those saved last first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
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
			return a.Print(map[string]any{"items": items, "total": total}, func(t *command.Table) {
				t.Row("ID", "TYPE", "STATE", "REV", "LOCALES", "SAVED", "TITLE")
				for _, e := range items {
					t.Row(
						e.ID, e.Type, e.State, e.Revision, localesText(e.Locales), command.When(&e.Updated),
						t.Short(e.Title, 28),
					)
				}
				if total > len(items) {
					t.Line(fmt.Sprintf("%d of %d; see more with --limit and --offset", len(items), total))
				}
			})
		},
	}
	filterFlags(list, &f)
	fl := list.Flags()
	fl.StringVar(&f.Filter, "filter", "", "only those whose draft this CQL2 filter is true of; needs --type")
	fl.StringVar(&f.Locale, "locale", "", "the locale that --filter reads; without it, the default locale")
	fl.StringVar(&f.Sort, "sort", "", "order: title, type, origin, updated or published, with - for descending")
	list.Flags().StringVar(&f.RefersTo, "refers-to", "", "only those that refer to this entry")
	list.Flags().IntVar(&f.Limit, "limit", 50, "how many at most")
	list.Flags().IntVar(&f.Offset, "offset", 0, "leave out the first ones")
	return list
}

func checkState(state content.State) error {
	if state != "" && !slices.Contains(content.States, state) {
		return command.Misusef("--state is draft, 'in review', scheduled, published, revised or retired, not %q", state)
	}
	return nil
}

// localesText names the locales that an entry can be read in; what is filled in,
// wholly or partly, stands in brackets or with a tilde.
func localesText(locales map[string]string) string {
	var out []string
	for _, tag := range command.SortedNames(locales) {
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

// named returns the service, and the id of the entry that is named.
func (a *Commands) named(cmd *cobra.Command, name string) (*client.Client, string, error) {
	s, err := a.Service()
	if err != nil {
		return nil, "", err
	}
	id, err := a.Find(cmd.Context(), s, name)
	return s, id, err
}

func (a *Commands) entryShow() *cobra.Command {
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
				return a.Print(r, func(t *command.Table) {
					t.Row("revision", r.Number)
					t.Row("saved", command.When(&r.At)+" by "+r.By)
					t.Row("message", command.OrDash(r.Message))
					drawFields(t, r.Fields)
				})
			}
			e, err := s.Entries().Get(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.Print(e, func(t *command.Table) { drawEntry(t, &e) })
		},
	}
	show.Flags().IntVar(&revision, "revision", 0, "show this revision instead")
	return show
}

func drawEntry(t *command.Table, e *api.EntryDetail) {
	t.Row("id", e.ID)
	t.Row("title", e.Title)
	t.Row("type", e.Type)
	t.Row("state", e.State)
	t.Row("origin", strings.TrimSpace(e.Origin+" "+e.OriginKey))
	if e.EditAt != "" {
		t.Row("edit at", e.EditAt)
	}
	t.Row("locales", localesText(e.Locales))
	t.Row("readers have", command.OrDash(strings.Join(e.Live, " ")))
	t.Row(
		"published",
		fmt.Sprintf("%s (revision %d of %d)", command.When(e.Published), e.PublishedRevision, e.Revision),
	)
	for _, sch := range e.Schedules {
		if sch.State == entries.SchedulePending {
			t.Row(
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
		t.Row(
			"review",
			strings.TrimSpace(fmt.Sprintf("revision %d %s by %s %s", r.Revision, r.What, r.By, r.Remark)),
		)
	}
	for _, path := range e.FormerPaths {
		t.Row("lived at", path)
	}
	for _, r := range e.ReferredBy {
		t.Row("referred to by", fmt.Sprintf("%s %s, in %s", r.Type, t.Short(r.Title, 40), r.Field))
	}
	drawFields(t, e.Newest)
	t.Line("")
	t.Row("REVISION", "SAVED", "BY", "MESSAGE")
	for _, r := range e.Revisions {
		t.Row(r.Number, command.When(&r.At), t.Short(r.By, 20), t.Short(command.OrDash(r.Message), 40))
	}
	t.Line("")
	t.Row("SEQUENCE", "AT", "EDITION", "WHAT", "LOCALES")
	for _, c := range e.Changes {
		t.Row(c.Sequence, command.When(&c.At), c.Edition, c.What, strings.Join(command.SortedNames(c.Fields), " "))
	}
}

func drawFields(t *command.Table, fields content.Fields) {
	t.Line("")
	for _, name := range command.SortedNames(fields) {
		t.Row("  "+name, t.Short(PlainJSON(fields[name]), 76))
	}
}

func (a *Commands) entryDiff() *cobra.Command {
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
			return a.Print(c, func(t *command.Table) {
				if len(c.Differences) == 0 {
					t.Line("No difference.")
					return
				}
				before := "PUBLISHED"
				if c.From > 0 {
					before = fmt.Sprintf("REVISION %d", c.From)
				}
				t.Row("FIELD", "LOCALE", before, fmt.Sprintf("REVISION %d", c.To))
				drawDifferences(t, c.Differences)
			})
		},
	}
	diff.Flags().IntVar(&from, "from", 0, "the earlier revision; 0 is what readers get")
	diff.Flags().IntVar(&to, "to", 0, "the later revision; 0 is the newest")
	return diff
}

func drawDifferences(t *command.Table, all []content.FieldDifference) {
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
		t.Row(d.Field, command.OrDash(d.Locale), t.ShortFrom(before, from), t.ShortFrom(after, from))
	}
}

func valueText(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	if v == nil {
		return ""
	}
	return PlainJSON(v)
}

// PlainJSON writes what came as JSON, as people read it.
func PlainJSON(v any) string {
	var out strings.Builder
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(v) // it came as JSON
	return strings.TrimSpace(out.String())
}
