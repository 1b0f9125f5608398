package servicecmd

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/content"
)

// Cache returns the command cache.
func (a *Commands) Cache() *cobra.Command {
	return command.Noun(
		"cache", "Look after the cache", a.cacheStats(), a.cacheList(), a.cacheExplain(), a.cachePurge(),
		a.cacheWarm(),
	)
}

func (a *Commands) cacheStats() *cobra.Command {
	return &cobra.Command{
		Use: "stats", Short: "Show the state of the cache, and the nodes", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			st, err := s.Cache().Stats(cmd.Context())
			if err != nil {
				return err
			}
			nodes, err := s.Cache().Nodes(cmd.Context())
			if err != nil {
				return err
			}
			down, err := s.Cache().Downstream(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"cache": st, "nodes": nodes, "downstream": down}, func(t *command.Table) {
				share := "–"
				if all := st.Hits + st.Misses + st.Joined; all > 0 {
					share = fmt.Sprintf("%.1f %%", 100*float64(st.Hits)/float64(all))
				}
				t.Row("responses", st.Responses)
				t.Row("bytes", fmt.Sprintf("%d of %d", st.Bytes, st.Limit))
				t.Row("hits", st.Hits, share)
				t.Row("misses", st.Misses)
				t.Row("waited for another's", st.Joined)
				t.Row("expired by a change", st.Expired)
				t.Row("kept through a model", st.Kept)
				t.Row("evicted for room", st.Evicted)
				t.Row("thrown away", st.Purged)
				t.Row("not stored", st.Refused)
				t.Row("applied sequence", st.Applied)
				for _, n := range nodes {
					what := n.State
					if n.Behind > 0 {
						what += fmt.Sprintf(", %d changes behind", n.Behind)
					}
					if n.Here {
						what += ", this one"
					}
					t.Row("node", n.Name, what)
				}
				for _, d := range down {
					t.Row("downstream", d.Name, toldOf(d))
				}
			})
		},
	}
}

// toldOf says how far a cache downstream has been told.
func toldOf(d api.Downstream) string {
	what := "has taken no call yet"
	if d.Told != nil {
		what = fmt.Sprintf("took %d calls, the last at %s", d.Calls, d.Told.Local().Format(time.TimeOnly))
	}
	if d.Behind > 0 {
		what += fmt.Sprintf(", %d changes behind", d.Behind)
	}
	if d.Attempts > 0 {
		what += fmt.Sprintf("; the last %d did not come through: %s", d.Attempts, d.Failed)
	}
	return what
}

// meant adds the flags that say which answers are meant.
func meant(c *cobra.Command, q *api.CacheQuery) {
	c.Flags().StringVar(&q.Edition, "edition", "", "only answers of this edition")
	c.Flags().StringVar(&q.Type, "type", "", "only answers that were read of this type")
	c.Flags().StringVar(&q.Entry, "entry", "", "only answers that something of this entry was read for")
	c.Flags().StringVar(&q.Search, "search", "", "only answers to requests with this text in them")
}

func (a *Commands) cacheList() *cobra.Command {
	var q api.CacheQuery
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "List cached responses, the most requested first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			held, err := s.Cache().Entries(cmd.Context(), q, limit)
			if err != nil {
				return err
			}
			return a.Print(held, func(t *command.Table) {
				t.Row("KEY", "HITS", "BYTES", "SINCE", "REQUEST")
				for _, h := range held.Items {
					t.Row(h.Key, h.Hits, h.Bytes, fmt.Sprintf("change %d", h.Sequence), t.Short(h.Asked, 90))
				}
				if more := held.Total - len(held.Items); more > 0 {
					t.Line(fmt.Sprintf("%d more; --limit lists them", more))
				}
			})
		},
	}
	meant(c, &q)
	c.Flags().StringVar(&q.Sort, "sort", "", "hits, bytes or age (default hits)")
	c.Flags().IntVar(&limit, "limit", 20, "how many at most")
	return c
}

func (a *Commands) cacheExplain() *cobra.Command {
	return &cobra.Command{
		Use: "explain KEY", Short: "Show what a response depends on", Args: cobra.ExactArgs(1),
		Example: "  ubiquon cache explain $(ubiquon cache list --limit 1 -o json | node -p " +
			"\"JSON.parse(require('fs').readFileSync(0)).items[0].key\")",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			e, err := s.Cache().Explain(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(e, func(t *command.Table) {
				t.Line(e.Asked)
				t.Row("status", e.Status)
				t.Row("bytes", fmt.Sprintf("%d, of which the body %d", e.Bytes, e.Body))
				t.Row("hits", e.Hits)
				t.Row("made", fmt.Sprintf("%s, of change %d", e.Made.Format(time.RFC3339), e.Sequence))
				if e.Ends != nil {
					t.Row("ends", e.Ends.Format(time.RFC3339)+", for it speaks of now")
				}
				t.Line("\nmade of")
				for _, line := range t.MadeOf(e.Dependencies, e.Titles) {
					t.Line("  " + line)
				}
			})
		},
	}
}

func (a *Commands) cachePurge() *cobra.Command {
	var q api.CacheQuery
	var yes bool
	c := &cobra.Command{
		Use: "purge [KEY…]", Short: "Purge cached responses: named ones, matching ones, or all", Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, keys []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if len(keys) == 0 {
				keys = []string{""}
			}
			if q == (api.CacheQuery{}) && keys[0] == "" && !yes &&
				!a.Confirm("throw away every answer of this node?") {
				return errors.New("nothing was done; answer y, or give --yes")
			}
			n := 0
			for _, q.Key = range keys {
				purged, err := s.Cache().Purge(cmd.Context(), q)
				if err != nil {
					return err
				}
				n += purged
			}
			return a.Print(map[string]int{"purged": n}, func(t *command.Table) { t.Line(answers(n) + " thrown away") })
		},
	}
	meant(c, &q)
	c.Flags().BoolVar(&yes, "yes", false, "do not ask before everything is thrown away")
	return c
}

func answers(n int) string {
	if n == 1 {
		return "1 answer"
	}
	return fmt.Sprintf("%d answers", n)
}

func (a *Commands) cacheWarm() *cobra.Command {
	var hottest int
	var everywhere bool
	c := &cobra.Command{
		Use: "warm [REQUEST…]", Short: "Compute responses before they are asked for", Args: cobra.ArbitraryArgs,
		Example: "  ubiquon cache warm '/notices?limit=3' /piers\n  ubiquon cache warm --hottest 100\n  ubiquon " +
			"cache warm --paths '/at?path={path}&locale={locale}&fields=title'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 && hottest == 0 {
				return command.Misusef("name requests, as in '/notices?limit=3', or say --hottest 100")
			}
			s, err := a.Service()
			if err != nil {
				return err
			}
			if everywhere &&
				!slices.ContainsFunc(args, func(r string) bool { return strings.Contains(r, "{path}") }) {
				return command.Misusef(
					"with --paths a request has {path} where the path of an entry goes, as in '/at?path={path}'",
				)
			}
			items, err := s.Cache().Warm(cmd.Context(), args, hottest, everywhere)
			if err != nil {
				return err
			}
			failed := slices.DeleteFunc(slices.Clone(items), func(w api.Warmed) bool { return w.Error == "" })
			err = a.Print(map[string]any{"items": items}, func(t *command.Table) {
				t.Line(answers(len(items)-len(failed)) + " held now")
				for _, w := range failed {
					t.Row(t.Short(w.Request, 60), w.Error)
				}
			})
			if err == nil && len(failed) > 0 {
				err = fmt.Errorf("%d requests have no answer", len(failed))
			}
			return err
		},
	}
	c.Flags().IntVar(&hottest, "hottest", 0, "so many of those that are asked for most")
	c.Flags().
		BoolVar(&everywhere, "paths", false, "make each request that has {path} in it for every path at which "+
			"something lives")
	return c
}

// Change returns the command change.
func (a *Commands) Change() *cobra.Command {
	return command.Noun(
		"change", "Look at the change log, and at what a change would do", a.changeList(), a.changeShow(),
		a.changeSimulate(),
	)
}

func (a *Commands) changeList() *cobra.Command {
	var entry string
	var below int64
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "List changes, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			items, err := s.Entries().Changes(cmd.Context(), entry, below, limit)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": items}, func(t *command.Table) {
				t.Row("CHANGE", "AT", "EDITION", "WHAT", "ENTRY", "BY")
				for i := range items {
					c := &items[i]
					t.Row(
						c.Sequence, c.At.Local().Format("2006-01-02 15:04:05"), command.OrDash(c.Edition),
						command.OrDash(c.What),
						strings.TrimSpace(c.Type+" "+c.Entry+" "+kindWord(c)),
						strings.TrimSpace(c.Cause.Kind+" "+c.Cause.Name),
					)
				}
			})
		},
	}
	c.Flags().StringVar(&entry, "entry", "", "only changes of this entry")
	c.Flags().Int64Var(&below, "below", 0, "only changes before this one")
	c.Flags().IntVar(&limit, "limit", 20, "how many at most")
	return c
}

// kindWord says what a change is about that is not one of content.
func kindWord(c *content.Change) string {
	if c.Kind == content.ContentChange {
		return ""
	}
	return "(" + c.Kind + ")"
}

func (a *Commands) changeShow() *cobra.Command {
	return &cobra.Command{
		Use: "show SEQUENCE", Short: "Show a change: what differs, in which locales, and who did it",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || n < 1 {
				return command.Misusef("%q is no sequence; see ubiquon change list", args[0])
			}
			s, err := a.Service()
			if err != nil {
				return err
			}
			c, err := s.Entries().Change(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.Print(c, func(t *command.Table) {
				t.Row("change", fmt.Sprintf("%d, of commit %d", c.Sequence, c.Commit))
				t.Row("at", c.At.Format(time.RFC3339Nano))
				t.Row("what", strings.TrimSpace(c.What+" "+kindWord(&c.Change)))
				t.Row("entry", command.OrDash(strings.TrimSpace(c.Type+" "+c.Entry)))
				t.Row("edition", command.OrDash(c.Edition))
				t.Row("by", strings.TrimSpace(c.Cause.Kind+" "+c.Cause.Name))
				for _, locale := range command.SortedNames(c.Fields) {
					t.Row("differs in "+command.OrDash(locale), strings.Join(c.Fields[locale], ", "))
				}
				for _, r := range c.Rules {
					t.Row("rule", r.Rule+": "+r.Reason)
				}
			})
		},
	}
}

func (a *Commands) changeSimulate() *cobra.Command {
	var what string
	var change int64
	c := &cobra.Command{
		Use: "simulate [ENTRY]", Short: "Show what publishing or unpublishing an entry would expire and rebuild",
		Args: cobra.MaximumNArgs(1),
		Example: "  ubiquon change simulate notice/ramp-at-mella-under-repair --do unpublish\n  ubiquon change " +
			"simulate --change 112",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			entry := ""
			switch {
			case len(args) == 1 && change == 0:
				if entry, err = a.Find(cmd.Context(), s, args[0]); err != nil {
					return err
				}
			case len(args) == 1 || change == 0:
				return command.Misusef("name an entry, or a change with --change")
			}
			out, err := s.Entries().Simulate(cmd.Context(), entry, what, change)
			if err != nil {
				return err
			}
			return a.Print(out, func(t *command.Table) {
				if out.Changes == 0 {
					t.Line("readers would see no difference")
					return
				}
				t.Line(fmt.Sprintf("%s: expires %d of %d answers held", out.What, len(out.Expires), out.Of))
				for _, h := range out.Expires {
					t.Row("  "+h.Key, h.Hits, t.Short(h.Asked, 90))
				}
				for _, r := range out.Rules {
					if r.Fires {
						t.Row("fires", r.Rule)
					} else {
						t.Row("does not fire", r.Rule, r.Why)
					}
				}
				t.Line("rebuilds " + command.OrDash(strings.Join(out.Sites, ", ")))
				for i := range out.Pages {
					drawAffected(t, &out.Pages[i])
				}
			})
		},
	}
	c.Flags().StringVar(&what, "do", "publish", "publish or unpublish")
	c.Flags().Int64Var(&change, "change", 0, "a change that was made, as if it were made now")
	return c
}
