package servicecmd

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/ingest"
)

// OriginCommand returns the command origin.
func (a *Commands) OriginCommand() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the origins, and how reading them goes", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Origins().List(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row(
					"ORIGIN",
					"FROM",
					"STATE",
					"ENTRIES",
					"NOT TAKEN",
					"READ LAST",
					"HEARD LAST",
					"COMPARED",
					"NEXT TRY",
				)
				for _, o := range all {
					state, compared := "fine", "–"
					if o.Error != "" {
						state = fmt.Sprintf("failed %d times", o.Failures)
					}
					if o.Missing {
						state = "not configured"
					}
					if o.Standby {
						state = "stands by"
					}
					if o.Compared != nil {
						compared = command.When(&o.Compared.At)
					}
					t.Row(
						o.Name,
						cmp.Or(o.From, "–"),
						state,
						strconv.Itoa(o.Entries),
						strconv.Itoa(o.Untaken),
						command.When(o.LastSuccess),
						command.When(o.LastEvent),
						compared,
						command.When(o.NextTry),
					)
					if o.Error != "" {
						t.Row("", t.Short(o.Error, 90))
					}
				}
			})
		},
	}
	return command.Noun(
		"origin",
		"Look at origins, compare with them, and let go of them",
		list,
		a.originShow(),
		a.originCompare(),
		a.originReconcile(),
		a.originTry(), a.originSwap(),
		a.originRetire(),
		a.originAdopt(),
	)
}

func (a *Commands) originReconcile() *cobra.Command {
	var del bool
	reconcile := &cobra.Command{
		Use: "reconcile ORIGIN", Short: "Compare everything an origin has with what is stored, and import what " +
			"differs", Args: cobra.ExactArgs(1),
		Long: `Reads everything that an origin lists, and takes over what differs. Entries that the
origin does not have any more are deleted, unless they are more than 10 and more
than a fifth of those of the origin: then they stay, until --delete says that this
is meant.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			done, err := s.Origins().Reconcile(
				cmd.Context(), args[0], del,
				func(typ string, seen int) { fmt.Fprintf(a.Err, "read %d of type %s\n", seen, typ) },
			)
			if err != nil {
				return err
			}
			return a.Print(done, func(t *command.Table) {
				t.Line(strings.ToUpper(done.String()[:1]) + done.String()[1:] + ".")
				for _, bad := range done.Bad {
					t.Line("✗ " + bad)
				}
				for _, lost := range done.Lost {
					t.Line("! not delivered: " + lost)
				}
				if done.Held > 0 {
					t.Line(
						"→ look whether the origin is whole; if it is meant: ubiquon origin reconcile " + args[0] +
							" --delete",
					)
				}
			})
		},
	}
	reconcile.Flags().
		BoolVar(&del, "delete", false, "delete what the origin does not have any more, however much it is")
	return reconcile
}

func (a *Commands) originShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ORIGIN", Short: "Show an origin, and its items that could not be imported", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Origins().List(cmd.Context())
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(o api.OriginState) bool { return o.Name == args[0] })
			if i < 0 {
				return fmt.Errorf(
					"there is no origin %q, and no entry comes from it; see ubiquon origin list", args[0],
				)
			}
			untaken, err := s.Origins().Rejected(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			o := all[i]
			return a.Print(map[string]any{"origin": o, "untaken": untaken}, func(t *command.Table) {
				t.Row("origin", o.Name)
				if o.Missing {
					t.Row("state", "not in the configuration of this node")
				} else if o.Error != "" {
					t.Row("state", o.Error)
				}
				if !o.Missing {
					t.Row("read from", o.From)
					t.Row("proven by", cmp.Or(o.Proof, "–"))
				}
				t.Row("entries", strconv.Itoa(o.Entries))
				t.Row("read last", command.When(o.LastSuccess))
				t.Row("heard last", command.When(o.LastEvent))
				t.Row("not taken", strconv.Itoa(o.Untaken))
				t.Line("")
				for _, u := range untaken {
					t.Line(fmt.Sprintf("✗ %s %s, since %s: %s", u.Type, u.Key, command.When(&u.Since), u.Reason))
				}
			})
		},
	}
}

// telling tells on stderr how far long work has come.
func (a *Commands) telling(what string) func(typ string, n int) {
	return func(typ string, n int) { fmt.Fprintln(a.Err, strings.TrimSpace(fmt.Sprintf("%s %d %s", what, n, typ))) }
}

func (a *Commands) originRetire() *cobra.Command {
	var keep string
	var unpublish, del, apply bool
	c := &cobra.Command{
		Use: "retire ORIGIN", Short: "Retire an origin that is not configured any more", Args: cobra.ExactArgs(1),
		Long: `Entries of an origin are edited there. When it is gone they are kept and edited here
from then on (--keep local), taken back and edited here (--unpublish), or deleted
(--delete). It only says what would happen, until --apply. Take the origin out of the
configuration of every node first: otherwise it would bring them back.`,
		Example: "  ubiquon origin retire old-office --keep local\n  ubiquon origin retire old-office --keep " +
			"local --apply",
		RunE: func(cmd *cobra.Command, args []string) error {
			do := ""
			for name, is := range map[string]bool{
				ingest.KeepLocal: keep != "", ingest.Unpublish: unpublish,
				ingest.DeleteAll: del,
			} {
				if is && do != "" {
					do = "several"
				} else if is {
					do = name
				}
			}
			if do == "" || do == "several" || keep != "" && keep != ingest.KeepLocal {
				return command.Misusef("say what becomes of its entries: one of --keep local, --unpublish and --delete")
			}
			s, err := a.Service()
			if err != nil {
				return err
			}
			done, err := s.Origins().Retire(cmd.Context(), args[0], do, apply, a.telling("done"))
			if err != nil {
				return err
			}
			return a.Print(done, func(t *command.Table) {
				for _, typ := range slices.Sorted(maps.Keys(done.Types)) {
					t.Row(typ, strconv.Itoa(done.Types[typ]))
				}
				t.Line(
					fmt.Sprintf(
						"%d entries, %d of them published: %s.",
						done.Entries,
						done.Published,
						map[string]string{
							ingest.KeepLocal: "kept as they are, and edited here",
							ingest.Unpublish: "taken back, and edited here", ingest.DeleteAll: "deleted",
						}[do],
					),
				)
				for _, left := range done.Left {
					t.Line("✗ left: " + left)
				}
				if !apply {
					t.Line("→ Nothing is done yet; do it with --apply.")
				}
			})
		},
	}
	c.Flags().StringVar(&keep, "keep", "", "keep them; local: edited here from now on")
	c.Flags().BoolVar(&unpublish, "unpublish", false, "take them back, and have them edited here")
	c.Flags().BoolVar(&del, "delete", false, "delete them")
	c.Flags().BoolVar(&apply, "apply", false, "do it, and not only say it")
	return c
}

func (a *Commands) originAdopt() *cobra.Command {
	var by string
	var apply bool
	c := &cobra.Command{
		Use: "adopt OLD NEW", Short: "Transfer the entries of one origin to another", Args: cobra.ExactArgs(2),
		Long: `Entries of the old origin become those of the new one, which is configured: an item of
the new one is the entry with the same key, else with the same slug, else at the same
path (where the mapping says path). Ids, paths and histories stay; the new origin is then
compared with. It only says what would happen, until --apply.`,
		Example: "  ubiquon origin adopt old-office new-office --by slug\n  ubiquon origin adopt old-office " +
			"new-office --by slug --apply",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			done, err := s.Origins().Adopt(cmd.Context(), args[0], args[1], by, apply, a.telling("found"))
			if err != nil {
				return err
			}
			return a.Print(done, func(t *command.Table) {
				for _, way := range slices.Sorted(maps.Keys(done.By)) {
					t.Row("by "+way, strconv.Itoa(done.By[way]))
				}
				t.Line(
					fmt.Sprintf(
						"%[1]d entries change hands from %[2]s to %[3]s; %[4]d stay with %[2]s, %[5]d items of "+
							"%[3]s are new.",
						done.Adopted, args[0], args[1], done.LeftAll, done.NewAll,
					),
				)
				for _, left := range done.Left {
					t.Line("  stays: " + left)
				}
				for _, one := range done.New {
					t.Line("  new: " + one)
				}
				if done.Replaced > 0 {
					t.Line(
						fmt.Sprintf(
							"%d entries that %s had made of the same items already are deleted.", done.Replaced,
							args[1],
						),
					)
				}
				if done.Compared != nil {
					t.Line("Then it " + done.Compared.String() + ".")
				}
				if !apply {
					t.Line("→ Nothing is done yet; do it with --apply.")
				}
			})
		},
	}
	c.Flags().StringVar(&by, "by", "", "recognise entries by key, slug or path alone")
	c.Flags().BoolVar(&apply, "apply", false, "do it, and not only say it")
	return c
}
