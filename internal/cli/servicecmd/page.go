package servicecmd

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/rebuild"
)

// Page returns the command page.
func (a *Commands) Page() *cobra.Command {
	return command.Noun("page", "Look at the pages of sites: what they read, and which are stale",
		a.pageList(), a.pageShow(), a.pageCheck())
}

func (a *Commands) pageList() *cobra.Command {
	var f api.PageFilter
	var stale bool
	list := &cobra.Command{
		Use: "list SITE", Short: "List the pages of a site, by path", Args: cobra.ExactArgs(1),
		Example: "  ubiquon page list skerry-web --stale\n  ubiquon page list skerry-web --entry route/outer-ring",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			f.Site = args[0]
			if cmd.Flags().Changed("stale") {
				f.Stale = &stale
			}
			if f.Entry != "" {
				if f.Entry, err = a.Find(cmd.Context(), s, f.Entry); err != nil {
					return err
				}
			}
			found, err := s.Builds().Pages(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.Print(found, func(t *command.Table) {
				t.Row("PAGE", "READS", "STALE SINCE", "CAUSE", "REGISTERED")
				for i := range found.Items {
					p := &found.Items[i]
					since := "–"
					if p.StaleSince != nil {
						since = fmt.Sprint(*p.StaleSince)
					}
					t.Row(p.Page, len(p.Reads), since, t.Short(causesOf(p.Causes), 40), command.When(&p.Registered))
				}
				l := found.Ledger
				switch {
				case l.Pages == 0:
					t.Line("No page of " + f.Site + " has said yet what it reads; see docs/reference/pages.md.")
				case l.Lost != nil:
					t.Line("All of the site counts as stale until it is rendered: what some pages have read is not known.")
				case l.Structure:
					t.Line("What its builds read for no page has changed: the site is stale as a whole.")
				default:
					t.Line(fmt.Sprintf("%d pages, %d stale, made of %d requests; known up to sequence %d.", l.Pages, l.Stale,
						l.Reads, l.Position))
				}
				if len(l.WholeTypes) > 0 {
					t.Line("It has more pages than are known one by one (knownUpTo): any change of " + whole(l.WholeTypes) +
						" makes all of it stale.")
				}
			})
		},
	}
	list.Flags().BoolVar(&stale, "stale", false, "only pages that are stale; --stale=false: that are not")
	list.Flags().StringVar(&f.Entry, "entry", "", "only pages that show something of this entry, by id or TYPE/SLUG")
	list.Flags().StringVar(&f.After, "after", "", "begin after this path")
	list.Flags().IntVar(&f.Limit, "limit", 100, "how many at most")
	return list
}

// whole names the types of which a change makes all of a site stale.
func whole(types []string) string {
	if types[0] == "" {
		return "any type"
	}
	return strings.Join(types, ", ")
}

// causesOf writes by which changes a page is stale.
func causesOf(causes []rebuild.Cause) string {
	out := make([]string, len(causes))
	for i, c := range causes {
		out[i] = strings.TrimSpace(c.Type + " " + c.Entry + " " + c.What)
	}
	return strings.Join(out, ", ")
}

func (a *Commands) pageShow() *cobra.Command {
	return &cobra.Command{
		Use: "show SITE PATH", Short: "Show one page: what it reads, and why it is stale", Args: cobra.ExactArgs(2),
		Example: "  ubiquon page show skerry-web /dispatches",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			found, err := s.Builds().Pages(cmd.Context(), api.PageFilter{Site: args[0], Page: args[1]})
			if err != nil {
				return err
			}
			if len(found.Items) == 0 {
				return fmt.Errorf("%s has no page %s; ubiquon page list %[1]s lists those that are known", args[0], args[1])
			}
			p := found.Items[0]
			return a.Print(p, func(t *command.Table) {
				t.Row("page", p.Page)
				for _, r := range p.Reads {
					t.Row("reads", r)
				}
				t.Row("registered", command.When(&p.Registered))
				if p.StaleSince == nil {
					t.Row("stale", "no")
					return
				}
				t.Row("stale since", fmt.Sprintf("sequence %d, %s", *p.StaleSince, command.When(p.StaleAt)))
				for _, c := range p.Causes {
					t.Row("by", causesOf([]rebuild.Cause{c}))
				}
				if p.Told > 0 {
					t.Row("told", fmt.Sprintf("the site, as of sequence %d", p.Told))
				}
				if p.Failed != "" {
					t.Row("not told", fmt.Sprintf("after %d attempts: %s", p.Attempts, p.Failed))
				}
			})
		},
	}
}

func (a *Commands) pageCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check SITE", Short: "Make the requests of all pages again, and hold what they give against what is known",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			found, err := s.Builds().CheckPages(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			err = a.Print(found, func(t *command.Table) {
				for _, w := range found.Wrong {
					t.Row(w.Request, "known as "+w.Known, "is "+w.Is)
				}
				t.Line(fmt.Sprintf("%d requests made, %d give something else than is known.", found.Reads, len(found.Wrong)))
			})
			if err == nil && len(found.Wrong) > 0 {
				err = fmt.Errorf("the ledger of %s is wrong about %d requests", args[0], len(found.Wrong))
			}
			return err
		},
	}
}

// drawAffected says which pages of a site a change would make stale.
func drawAffected(t *command.Table, p *api.AffectedPages) {
	switch {
	case p.Elsewhere:
		t.Row("pages of "+p.Site, "another node knows which")
	case p.Whole:
		t.Row("pages of "+p.Site, "all: it changes which pages there are")
	case len(p.Pages) == 0:
		t.Row("pages of "+p.Site, "none shows anything of it")
	default:
		shown := strings.Join(p.Pages[:min(len(p.Pages), mostShown)], ", ")
		if more := len(p.Pages) - mostShown; more > 0 {
			shown += fmt.Sprintf(" and %d more", more)
		}
		t.Row("pages of "+p.Site, shown)
	}
}
