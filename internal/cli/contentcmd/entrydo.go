package contentcmd

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
)

// doing is a command that does one thing to entries, which are named or chosen
// by a filter.
type doing struct {
	use, short, example string
	// done is what is said of the entries afterwards.
	done string
	// fill makes the edit of one entry.
	fill   func(*api.Edit)
	flags  func(*cobra.Command)
	before func(cmd *cobra.Command, s *client.Client, ids []string) ([]string, error)
}

func (a *Commands) do(d doing) *cobra.Command {
	var f api.EntryFilter
	var yes bool
	c := &cobra.Command{
		Use: d.use + " [ID|TYPE/SLUG …]", Short: d.short, Example: d.example,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
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
			edits := make([]api.Edit, len(ids))
			for i, id := range ids {
				edits[i] = api.Edit{ID: id, Do: d.use}
				if d.fill != nil {
					d.fill(&edits[i])
				}
			}
			out, err := s.Entries().Edit(cmd.Context(), edits...)
			if err != nil {
				return a.refused(err)
			}
			return a.Print(out, func(t *command.Table) {
				for _, id := range ids {
					t.Line(id + " " + d.done)
				}
				if out.Sequence > 0 {
					t.Line(fmt.Sprintf("sequence %d", out.Sequence))
				} else {
					t.Line("No reader sees a difference.")
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
func (a *Commands) choose(
	cmd *cobra.Command, s *client.Client, args []string, f api.EntryFilter, yes bool, what string,
) ([]string, error) {
	filtered := f.Type != "" || f.State != "" || f.Search != "" || f.Missing != "" || f.Origin != ""
	switch {
	case len(args) == 0 && !filtered:
		return nil, command.Misusef("name the entries, or choose them with --type, --state, --search or --missing")
	case len(args) > 0 && filtered:
		return nil, command.Misusef("either name the entries or choose them with --type, --state, --search or " +
			"--missing")
	case len(args) > 0:
		var ids []string
		for _, name := range args {
			id, err := a.Find(cmd.Context(), s, name)
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
			fmt.Fprintf(a.Err, "  %s  %s  %s\n", e.ID, e.State, command.NewTable(a.Err).Short(e.Title, 60))
		}
	}
	if len(ids) == 0 {
		fmt.Fprintln(a.Err, "No entry fits.")
		return nil, nil
	}
	if !yes && !a.Confirm(fmt.Sprintf("%s these %d entries?", what, len(ids))) {
		return nil, errors.New("nothing was done; answer y, or give --yes")
	}
	return ids, nil
}

// refused tells everything that a refusal says.
func (a *Commands) refused(err error) error {
	var p *api.Problem
	if !errors.As(err, &p) {
		return err
	}
	for _, r := range p.ReferredBy {
		fmt.Fprintf(a.Err, "  %s %q (%s) refers to it in %s\n", r.Type, r.Title, r.Entry, r.Field)
	}
	if c := p.Conflict; c != nil {
		fmt.Fprintf(
			a.Err, "Revision %d was saved at %s by %s. It differs from yours in:\n", c.Present.Number,
			command.When(&c.Present.At), c.Present.By,
		)
		_ = (&command.App{Out: a.Err, Output: "table"}).Print(nil, func(t *command.Table) {
			t.Row("FIELD", "LOCALE", "PRESENT", "YOURS")
			drawDifferences(t, c.Differences)
		})
	}
	return err
}

func (a *Commands) entryPublish() *cobra.Command {
	var locales []string
	var linked bool
	return a.do(doing{
		use: "publish", short: "Publish the newest saved state, all entries or none", done: "published",
		example: `  ubiquon entry publish notice/fog-on-the-outer-ring --locale nb
  ubiquon entry publish --type notice --state draft --with-linked`,
		fill: func(e *api.Edit) { e.Locales = locales },
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
					fmt.Fprintf(a.Err, "It refers to %s %q (%s), which is %s; --with-linked publishes that too.\n",
						e.Type, e.Title, e.ID, e.State)
				}
			}
			return ids, nil
		},
	})
}

func (a *Commands) entryUnpublish() *cobra.Command {
	var locales []string
	return a.do(doing{
		use: "unpublish", short: "Take entries back from readers; drafts stay", done: "unpublished",
		fill:  func(e *api.Edit) { e.Locales = locales },
		flags: func(c *cobra.Command) { c.Flags().StringSliceVar(&locales, "locale", nil, "only these locales") },
	})
}

func (a *Commands) remarked(use, short, done string) *cobra.Command {
	var remark string
	return a.do(doing{
		use: use, short: short, done: done,
		fill:  func(e *api.Edit) { e.Remark = remark },
		flags: func(c *cobra.Command) { c.Flags().StringVar(&remark, "remark", "", "what to say about it") },
	})
}

func (a *Commands) entrySubmit() *cobra.Command {
	return a.remarked("submit", "Submit the newest revision for review", "in review")
}

func (a *Commands) entryApprove() *cobra.Command {
	return a.remarked("approve", "Approve what is in review", "approved")
}

func (a *Commands) entryReturn() *cobra.Command {
	return a.remarked("return", "Send what is in review back, with a remark", "returned")
}

func (a *Commands) entryDiscard() *cobra.Command {
	return a.do(
		doing{
			use:   "discard",
			short: "Discard the draft: what readers get becomes the newest state",
			done:  "is as readers get it",
		},
	)
}

func (a *Commands) evenIfReferred(use, short, done string) *cobra.Command {
	var even bool
	return a.do(doing{
		use: use, short: short, done: done,
		fill: func(e *api.Edit) { e.EvenIfReferred = even },
		flags: func(c *cobra.Command) {
			c.Flags().BoolVar(&even, "even-if-referred", false, "do it although other entries refer to it")
		},
	})
}

func (a *Commands) entryRetire() *cobra.Command {
	return a.evenIfReferred("retire", "Keep entries, but show them to nobody; saving brings one back", "retired")
}

func (a *Commands) entryDelete() *cobra.Command {
	return a.evenIfReferred("delete", "Delete entries with all revisions", "deleted")
}

func (a *Commands) entryRestore() *cobra.Command {
	var revision int
	var message string
	c := a.do(doing{
		use: "restore", short: "Save an earlier revision anew", done: "restored",
		fill: func(e *api.Edit) { e.Revision, e.Message = revision, message },
		flags: func(c *cobra.Command) {
			c.Flags().IntVar(&revision, "revision", 0, "the revision to restore")
			c.Flags().StringVar(&message, "message", "", "what to say about it")
		},
	})
	_ = c.MarkFlagRequired("revision") // the flag is there
	return c
}

func (a *Commands) entryDuplicate() *cobra.Command {
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
			return a.Print(out, func(t *command.Table) { t.Line(out.Entries[0].ID + " saved as a draft") })
		},
	}
}
