package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

func (a *app) entry() *cobra.Command {
	var f store.EntryFilter
	var state string
	list := &cobra.Command{
		Use: "list", Short: "List entries, those saved last first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			switch f.State = content.State(state); f.State {
			case "", content.Draft, content.IsPublished, content.Revised:
			default:
				return misusef("--state is draft, published or revised, not %q", state)
			}
			items, total, err := s.Entries(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": items, "total": total}, func(t *table) {
				t.row("ID", "TYPE", "STATE", "REV", "LOCALES", "SAVED", "TITLE")
				for _, e := range items {
					t.row(e.ID, e.Type, e.State, e.Revision, strings.Join(e.Locales, " "), when(&e.Updated), short(e.Title, 30))
				}
				if total > len(items) {
					t.line(fmt.Sprintf("%d of %d; see more with --limit and --offset", len(items), total))
				}
			})
		},
	}
	fl := list.Flags()
	fl.StringVar(&f.Type, "type", "", "only entries of this type")
	fl.StringVar(&f.Origin, "origin", "", "only entries from this origin")
	fl.StringVar(&state, "state", "", "only draft, published or revised ones")
	fl.StringVar(&f.Search, "search", "", "only those with this in title, slug or id")
	fl.IntVar(&f.Limit, "limit", 50, "how many at most")
	fl.IntVar(&f.Offset, "offset", 0, "leave out the first ones")

	show := &cobra.Command{
		Use: "show ID", Short: "Show one entry: its fields, revisions and changes", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			e, err := s.Entry(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(e, func(t *table) {
				t.row("title", e.Title)
				t.row("type", e.Type)
				t.row("state", e.State)
				t.row("origin", strings.TrimSpace(e.Origin+" "+e.OriginKey))
				if e.EditAt != "" {
					t.row("edit at", e.EditAt)
				}
				t.row("locales", strings.Join(e.Locales, " "))
				t.row("published", fmt.Sprintf("%s (revision %d of %d)", when(e.Published), e.PublishedRevision, e.Revision))
				if len(e.Revisions) > 0 {
					t.line("")
					for _, name := range sortedNames(e.Revisions[0].Fields) {
						src, _ := json.Marshal(e.Revisions[0].Fields[name]) // came as JSON
						t.row("  "+name, short(string(src), 76))
					}
				}
				t.line("")
				t.row("SEQUENCE", "AT", "EDITION", "WHAT", "LOCALES")
				for _, c := range e.Changes {
					t.row(c.Sequence, when(&c.At), c.Edition, c.What, strings.Join(sortedNames(c.Fields), " "))
				}
			})
		},
	}
	return noun("entry", "Look at entries", list, show)
}
