package contentcmd

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/why"
)

// Why returns the command why.
func (a *Commands) Why() *cobra.Command {
	var q api.WhyQuestion
	c := &cobra.Command{
		Use:   "why ENTRY|PATH|SLUG|REQUEST",
		Short: "Find out why an entry is not visible, and how to fix it",
		Long: `Says every reason that keeps a reader from an entry at the moment, the most
fundamental first, each with the command that mends it. If it can be seen, says
since when, in which cached answers, and on which pages.

The entry is named by its id, its slug or its path; or give the request that was
refused. Without --key the reader is everyone. (The key that the question itself
is asked with comes from UBIQUON_KEY.)`,
		Example: `  ubiquon why fog-on-the-sound
  ubiquon why /notices/fog-on-the-sound --key website --locale nb
  ubiquon why fog-on-the-sound --in '/notices?translated=only&locale=ja'
  ubiquon why '/content/main/published/routes/outer-ring'`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.Key = "" // the flag is the reader's here
			s, err := a.Service()
			if err != nil {
				return err
			}
			if q.Entry = args[0]; strings.Contains(q.Entry, "/content/") {
				q.Entry, q.Request = "", q.Entry
			}
			q.Request = encoded(q.Request)
			out, err := s.Why(cmd.Context(), q)
			if err != nil {
				return err
			}
			if err := a.Print(out, func(t *command.Table) { a.drawWhy(t, &out) }); err != nil {
				return err
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&q.Key, "key", "", "the reader: a key's id, name or secret; none for everyone")
	f.StringVar(&q.Edition, "edition", "", "published or preview (default published)")
	f.StringVar(&q.Locale, "locale", "", "the locale (default the first)")
	f.StringVar(&q.Type, "type", "", "the type, where several have the slug")
	f.StringVar(&q.Request, "in", "", "the list that it should be in, as in '/notices?limit=3'")
	return c
}

func (a *Commands) drawWhy(t *command.Table, out *api.WhyAnswer) {
	about := "What was asked for"
	if e := out.Entry; e != nil {
		about = fmt.Sprintf("%s “%s” (%s)", e.Type, e.Title, e.ID)
	}
	as := fmt.Sprintf("by %s, %s, in %s", out.Reader, out.Edition, out.Locale)
	if out.Visible {
		t.Line(about + " is seen " + as + ".")
		if out.Since != nil {
			t.Line(fmt.Sprintf("  since change %d, %s (%s)", out.Since.Sequence, command.When(&out.Since.At), out.Since.What))
		}
		for _, p := range out.Pages {
			how := "if the site has that page"
			if p.StaleSince != nil {
				how = fmt.Sprintf("which is stale since change %d", *p.StaleSince)
			} else if p.Read != nil {
				how = "as of " + command.When(p.Read)
			}
			t.Line("  at " + p.Address + ", " + how)
		}
		for _, c := range out.Cached {
			t.Line(fmt.Sprintf("  in the cached answer to %s", t.Short(c.Asked, 90)))
		}
	} else {
		t.Line(about + " is not seen " + as + ":")
	}
	drawReasons(t, out.Reasons)
	if len(out.Remarks) > 0 {
		t.Line("\nLeft out of it:")
		drawReasons(t, out.Remarks)
	}
	for _, o := range out.Others {
		t.Line(fmt.Sprintf("\nThere is also %s “%s”: ubiquon why %s", o.Type, o.Title, o.ID))
	}
}

func drawReasons(t *command.Table, reasons []why.Reason) {
	for i, r := range reasons {
		t.Line(fmt.Sprintf("\n%d. %s", i+1, r.Text))
		for _, m := range r.Mends {
			t.Line("   " + m.Says + ":  " + m.Command)
			if m.Link != "" {
				t.Line("   " + m.Link)
			}
		}
	}
}
