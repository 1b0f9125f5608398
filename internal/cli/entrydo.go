package cli

import (
	"bufio"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/client"
	"ubiquon/internal/store/entries"
)

// doing is a command that does one thing to entries, which are named or chosen
// by a filter.
type doing struct {
	use, short, example string
	// done is what is said of the entries afterwards.
	done string
	// fill makes the edit of one entry.
	fill   func(*client.Edit)
	flags  func(*cobra.Command)
	before func(cmd *cobra.Command, s *client.Client, ids []string) ([]string, error)
}

func (a *app) do(d doing) *cobra.Command {
	var f entries.EntryFilter
	var yes bool
	c := &cobra.Command{
		Use: d.use + " [ID|TYPE/SLUG …]", Short: d.short, Example: d.example,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			ids, err := a.choose(cmd, s, args, f, yes, d.use)
			if err != nil || len(ids) == 0 {
				return err
			}
			if d.before != nil {
				if ids, err = d.before(cmd, s, ids); err != nil {
					return err
				}
			}
			edits := make([]client.Edit, len(ids))
			for i, id := range ids {
				edits[i] = client.Edit{ID: id, Do: d.use}
				if d.fill != nil {
					d.fill(&edits[i])
				}
			}
			out, err := s.Entries().Edit(cmd.Context(), edits...)
			if err != nil {
				return a.refused(err)
			}
			return a.print(out, func(t *table) {
				for _, id := range ids {
					t.line(id + " " + d.done)
				}
				if out.Sequence > 0 {
					t.line(fmt.Sprintf("sequence %d", out.Sequence))
				} else {
					t.line("No reader sees a difference.")
				}
			})
		},
	}
	filterFlags(c, &f)
	c.Flags().
		BoolVar(&yes, "yes", false, "do not ask when entries are chosen by --type, --state, --search or --missing")
	if d.flags != nil {
		d.flags(c)
	}
	return c
}

// choose returns the ids of the entries that are named, or that a filter leaves;
// of the latter it asks first.
func (a *app) choose(
	cmd *cobra.Command, s *client.Client, args []string, f entries.EntryFilter, yes bool, what string,
) ([]string, error) {
	filtered := f.Type != "" || f.State != "" || f.Search != "" || f.Missing != "" || f.Origin != ""
	switch {
	case len(args) == 0 && !filtered:
		return nil, misusef("name the entries, or choose them with --type, --state, --search or --missing")
	case len(args) > 0 && filtered:
		return nil, misusef("either name the entries or choose them with --type, --state, --search or --missing")
	case len(args) > 0:
		var ids []string
		for _, name := range args {
			id, err := a.find(cmd.Context(), s, name)
			if err != nil {
				return nil, err
			}
			ids = append(ids, id)
		}
		return ids, nil
	}
	if err := checkState(f.State); err != nil {
		return nil, err
	}
	f.Limit = 200
	items, total, err := s.Entries().List(cmd.Context(), f)
	if err != nil {
		return nil, err
	}
	if total > len(items) {
		return nil, fmt.Errorf("%d entries fit; %d can be done at once, so narrow the choice", total, len(items))
	}
	var ids []string
	for _, e := range items {
		ids = append(ids, e.ID)
		if !yes {
			fmt.Fprintf(a.err, "  %s  %s  %s\n", e.ID, e.State, newTable(a.err).short(e.Title, 60))
		}
	}
	if len(ids) == 0 {
		fmt.Fprintln(a.err, "No entry fits.")
		return nil, nil
	}
	if !yes && !a.agreed(fmt.Sprintf("%s these %d entries?", what, len(ids))) {
		return nil, errors.New("nothing was done; answer y, or give --yes")
	}
	return ids, nil
}

func (a *app) agreed(question string) bool {
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(a.in).ReadString('\n') // no answer is a no
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes"
}

// refused tells everything that a refusal says.
func (a *app) refused(err error) error {
	var p *client.Problem
	if !errors.As(err, &p) {
		return err
	}
	for _, r := range p.ReferredBy {
		fmt.Fprintf(a.err, "  %s %q (%s) refers to it in %s\n", r.Type, r.Title, r.Entry, r.Field)
	}
	if c := p.Conflict; c != nil {
		fmt.Fprintf(
			a.err, "Revision %d was saved at %s by %s. It differs from yours in:\n", c.Present.Number,
			when(&c.Present.At), c.Present.By,
		)
		_ = (&app{out: a.err, output: "table"}).print(nil, func(t *table) {
			t.row("FIELD", "LOCALE", "PRESENT", "YOURS")
			drawDifferences(t, c.Differences)
		})
	}
	return err
}

func (a *app) entryPublish() *cobra.Command {
	var locales []string
	var linked bool
	return a.do(doing{use: "publish", short: "Publish the newest saved state, all entries or none", done: "published",
		example: `  ubiquon entry publish notice/fog-on-the-outer-ring --locale nb
  ubiquon entry publish --type notice --state draft --with-linked`,
		fill: func(e *client.Edit) { e.Locales = locales },
		flags: func(c *cobra.Command) {
			c.Flags().
				StringSliceVar(&locales, "locale", nil, "only these locales; the others stay as readers have them")
			c.Flags().BoolVar(&linked, "with-linked", false, "publish the drafts too that they refer to")
		},
		before: func(cmd *cobra.Command, s *client.Client, ids []string) ([]string, error) {
			drafts, err := s.Entries().LinkedDrafts(cmd.Context(), ids...)
			if err != nil {
				return nil, err
			}
			for _, e := range drafts {
				if linked {
					ids = append(ids, e.ID)
				} else {
					fmt.Fprintf(a.err, "It refers to %s %q (%s), which is %s; --with-linked publishes that too.\n",
						e.Type, e.Title, e.ID, e.State)
				}
			}
			return ids, nil
		}})
}

func (a *app) entryUnpublish() *cobra.Command {
	var locales []string
	return a.do(doing{use: "unpublish", short: "Take entries back from readers; drafts stay", done: "unpublished",
		fill:  func(e *client.Edit) { e.Locales = locales },
		flags: func(c *cobra.Command) { c.Flags().StringSliceVar(&locales, "locale", nil, "only these locales") }})
}

func (a *app) remarked(use, short, done string) *cobra.Command {
	var remark string
	return a.do(doing{use: use, short: short, done: done,
		fill:  func(e *client.Edit) { e.Remark = remark },
		flags: func(c *cobra.Command) { c.Flags().StringVar(&remark, "remark", "", "what to say about it") }})
}

func (a *app) entrySubmit() *cobra.Command {
	return a.remarked("submit", "Submit the newest revision for review", "in review")
}

func (a *app) entryApprove() *cobra.Command {
	return a.remarked("approve", "Approve what is in review", "approved")
}

func (a *app) entryReturn() *cobra.Command {
	return a.remarked("return", "Send what is in review back, with a remark", "returned")
}

func (a *app) entryDiscard() *cobra.Command {
	return a.do(
		doing{
			use:   "discard",
			short: "Discard the draft: what readers get becomes the newest state",
			done:  "is as readers get it",
		},
	)
}

func (a *app) evenIfReferred(use, short, done string) *cobra.Command {
	var even bool
	return a.do(doing{use: use, short: short, done: done,
		fill: func(e *client.Edit) { e.EvenIfReferred = even },
		flags: func(c *cobra.Command) {
			c.Flags().BoolVar(&even, "even-if-referred", false, "do it although other entries refer to it")
		}})
}

func (a *app) entryRetire() *cobra.Command {
	return a.evenIfReferred("retire", "Keep entries, but show them to nobody; saving brings one back", "retired")
}

func (a *app) entryDelete() *cobra.Command {
	return a.evenIfReferred("delete", "Delete entries with all revisions", "deleted")
}

func (a *app) entryRestore() *cobra.Command {
	var revision int
	var message string
	c := a.do(doing{use: "restore", short: "Save an earlier revision anew", done: "restored",
		fill: func(e *client.Edit) { e.Revision, e.Message = revision, message },
		flags: func(c *cobra.Command) {
			c.Flags().IntVar(&revision, "revision", 0, "the revision to restore")
			c.Flags().StringVar(&message, "message", "", "what to say about it")
		}})
	_ = c.MarkFlagRequired("revision") // the flag is there
	return c
}

func (a *app) entryDuplicate() *cobra.Command {
	return &cobra.Command{
		Use: "duplicate ID|TYPE/SLUG", Short: "Save a copy of an entry as a draft", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.named(cmd, args[0])
			if err != nil {
				return err
			}
			out, err := s.Entries().Duplicate(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.print(out, func(t *table) { t.line(out.Entries[0].ID + " saved as a draft") })
		},
	}
}

func (a *app) entryPreview() *cobra.Command {
	var o client.PreviewOptions
	c := &cobra.Command{
		Use: "preview ID|TYPE/SLUG", Short: "Print where sites show an entry in preview, for a while, to who has " +
			"the link", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.named(cmd, args[0])
			if err != nil {
				return err
			}
			link, err := s.Keys().Preview(cmd.Context(), id, o)
			if err != nil {
				return err
			}
			return a.print(link, func(t *table) {
				for _, one := range link.Addresses {
					t.row(one.Site, one.Address)
				}
				if len(link.Addresses) == 0 {
					t.line(
						"No site shows a preview of it: it has no path, or no site has a preview address. The token:",
					)
					t.line(link.Token)
				}
				t.line(
					"Good until " + when(&link.Expires) + ". End it before with: ubiquon preview revoke " + link.ID,
				)
			})
		},
	}
	c.Flags().StringVar(&o.Locale, "locale", "", "the locale whose path is shown (default the first)")
	c.Flags().IntVar(&o.Minutes, "minutes", 60, "how long the link is good, a week at most")
	c.Flags().BoolVar(&o.WaysBack, "ways-back", false, "let the link read what refers to the entry, too")
	return c
}

// previewCommand manages the preview links that were made.
func (a *app) previewCommand() *cobra.Command {
	var entry string
	list := &cobra.Command{
		Use: "list", Short: "List the preview links that have not expired", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			if entry != "" {
				if entry, err = a.find(cmd.Context(), s, entry); err != nil {
					return err
				}
			}
			all, err := s.Keys().Previews(cmd.Context(), entry)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": all}, func(t *table) {
				t.row("ID", "ENTRY", "MADE BY", "EXPIRES", "LAST USED", "STATE")
				for _, l := range all {
					state := "good"
					if l.Revoked != nil {
						state = "revoked"
					}
					t.row(l.ID, t.short(l.Title, 32), t.short(l.By, 26), when(&l.Expires), when(l.Used), state)
				}
				if len(all) == 0 {
					t.line("There are none. Make one with: ubiquon entry preview TYPE/SLUG")
				}
			})
		},
	}
	list.Flags().StringVar(&entry, "entry", "", "those of one entry: its id, or TYPE/SLUG")
	revoke := &cobra.Command{
		Use: "revoke ID", Short: "End a preview link at once", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			if err := s.Keys().RevokePreview(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(
				map[string]any{"revoked": args[0]},
				func(t *table) { t.line("preview link " + args[0] + " is revoked") },
			)
		},
	}
	return noun("preview", "List and revoke preview links", list, revoke)
}

func (a *app) entrySchedule() *cobra.Command {
	var publish, unpublish, zone string
	var locales []string
	c := &cobra.Command{
		Use: "schedule ID|TYPE/SLUG", Short: "Have an entry published or taken back at a moment",
		Args:    cobra.ExactArgs(1),
		Example: `  ubiquon entry schedule notice/winter-timetable --publish-at "2026-12-01T08:00" --zone Europe/Oslo`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			if publish == "" && unpublish == "" {
				return misusef("say when, with --publish-at or --unpublish-at")
			}
			id, err := a.find(cmd.Context(), s, args[0])
			if err != nil {
				return err
			}
			var made []entries.Schedule
			for _, one := range [][2]string{{entries.SchedulePublish, publish},
				{entries.ScheduleUnpublish, unpublish}} {
				if one[1] == "" {
					continue
				}
				sch, err := s.Entries().Schedule(cmd.Context(), id, one[0], one[1], zone, locales)
				if err != nil {
					return err
				}
				made = append(made, sch)
			}
			return a.print(map[string]any{"items": made}, func(t *table) { drawSchedules(t, made) })
		},
	}
	c.Flags().StringVar(&publish, "publish-at", "", "when to publish, as in 2026-12-01T08:00 or with an offset")
	c.Flags().StringVar(&unpublish, "unpublish-at", "", "when to take back")
	c.Flags().StringVar(&zone, "zone", "UTC", "the time zone of the moment, as in Europe/Oslo")
	c.Flags().StringSliceVar(&locales, "locale", nil, "only these locales")
	return c
}

func drawSchedules(t *table, all []entries.Schedule) {
	t.row("ID", "STATE", "AT", "DO", "LOCALES", "ENTRY")
	for _, s := range all {
		locales := "all"
		if s.Locales != nil {
			locales = strings.Join(s.Locales, " ")
		}
		t.row(s.ID[:8], s.State, s.At.Local().Format("2006-01-02 15:04:05"), s.Action, locales, t.short(s.Title, 30))
		if s.Detail != "" {
			t.row("", "", t.short(s.Detail, 60))
		}
	}
}

func (a *app) schedule() *cobra.Command {
	var state string
	list := &cobra.Command{
		Use: "list", Short: "List what will happen, and what has", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			all, err := s.Entries().Schedules(cmd.Context(), state)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": all}, func(t *table) { drawSchedules(t, all) })
		},
	}
	list.Flags().StringVar(&state, "state", "", "only pending, done, failed or cancelled ones")
	cancel := &cobra.Command{
		Use: "cancel ID", Short: "Cancel what is pending", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.pending(cmd, args[0])
			if err != nil {
				return err
			}
			if err := s.Entries().CancelSchedule(cmd.Context(), id); err != nil {
				return err
			}
			return a.print(map[string]string{"cancelled": id}, func(t *table) { t.line(id + " cancelled") })
		},
	}
	var at, zone string
	move := &cobra.Command{
		Use: "move ID", Short: "Give what is pending another moment", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.pending(cmd, args[0])
			if err != nil {
				return err
			}
			sch, err := s.Entries().MoveSchedule(cmd.Context(), id, at, zone)
			if err != nil {
				return err
			}
			return a.print(sch, func(t *table) { drawSchedules(t, []entries.Schedule{sch}) })
		},
	}
	move.Flags().StringVar(&at, "at", "", "the new moment")
	move.Flags().StringVar(&zone, "zone", "UTC", "its time zone")
	_ = move.MarkFlagRequired("at") // the flag is there
	return noun("schedule", "See and change what will be published by itself", list, move, cancel)
}

// pending finds a pending schedule by the beginning of its id.
func (a *app) pending(cmd *cobra.Command, name string) (*client.Client, string, error) {
	s, err := a.service()
	if err != nil {
		return nil, "", err
	}
	all, err := s.Entries().Schedules(cmd.Context(), entries.SchedulePending)
	if err != nil {
		return nil, "", err
	}
	var found []string
	for _, sch := range all {
		if strings.HasPrefix(sch.ID, name) {
			found = append(found, sch.ID)
		}
	}
	if len(found) != 1 {
		return nil, "", fmt.Errorf(
			"%d pending schedules have an id that begins with %q; see: ubiquon schedule list", len(found), name,
		)
	}
	return s, found[0], nil
}
