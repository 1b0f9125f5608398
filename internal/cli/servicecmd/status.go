package servicecmd

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
)

// errProblems is the error of a status with problems, for scripts.
var errProblems = errors.New("there are problems")

// Status returns the command status.
func (a *Commands) Status() *cobra.Command {
	var check bool
	c := &cobra.Command{
		Use: "status", Short: "Show the state of the service: what is wrong, since when, and how to fix it",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			st, err := s.Status(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.Print(st, func(t *command.Table) { drawStatus(t, &st) }); err != nil {
				return err
			}
			if check && len(st.Problems) > 0 {
				return errProblems
			}
			return nil
		},
	}
	c.Flags().BoolVar(&check, "check", false, "fail (exit code 1) if something is wrong")
	return c
}

func drawStatus(t *command.Table, st *api.Status) {
	if len(st.Problems) == 0 {
		t.Line("Nothing is wrong.")
	}
	for _, p := range st.Problems {
		since := ""
		if p.Since != nil {
			since = ", since " + command.When(p.Since)
		}
		t.Line("✗ " + p.What + since)
		if p.Mend != "" {
			t.Line("  → " + p.Mend)
		}
	}
	t.Line("")
	t.Row("serving", fmt.Sprintf("%s, since %s", st.Environment, command.When(&st.Since)))
	t.Row("sequence", fmt.Sprintf("%d, model %d", st.Sequence, st.Model))
	share := "–"
	if all := st.Cache.Hits + st.Cache.Misses + st.Cache.Joined; all > 0 {
		share = fmt.Sprintf("%.1f %% from the cache", 100*float64(st.Cache.Hits)/float64(all))
	}
	t.Row("reads", fmt.Sprintf("%d, %s, 99 %% under %.1f ms", st.Requests, share, st.P99))
	b := st.Backlog
	t.Row(
		"waiting",
		fmt.Sprintf("%d events, %d builds, %d changes for rules", b.WaitingEvents, b.WaitingBuilds, b.RulesBehind),
	)
	t.Row("late", fmt.Sprintf("%d schedules", b.LateSchedules))
	t.Row(
		"failed in a day",
		fmt.Sprintf(
			"%d events, %d schedules; %d announcements refused", b.FailedEvents, b.FailedSchedules, b.RefusedEvents,
		),
	)
	for _, o := range st.Origins {
		how := "read last " + command.When(o.LastSuccess)
		if o.Error != "" {
			how = "cannot be read"
		}
		t.Row("origin "+o.Name, how+", heard last "+command.When(o.LastEvent))
	}
	for _, s := range st.Sites {
		how := "not built yet"
		if s.Build == nil && s.Refresh != nil {
			how = "refreshed page by page"
		}
		if len(s.Builds) > 0 {
			how = fmt.Sprintf("build %d %s", s.Builds[0].Number, s.Builds[0].State)
		}
		if l := s.Liveness; l != nil && l.Pages > 0 {
			how += fmt.Sprintf("; visitors get a change after %s, 95 %% within %s", command.Span(milliseconds(l.P50)),
				command.Span(milliseconds(l.P95)))
		}
		t.Row("site "+s.Name, how)
	}
}

func milliseconds(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

// Wake returns the command wake.
func (a *Commands) Wake() *cobra.Command {
	return &cobra.Command{
		Use: "wake", Short: "Wake a quiet copy: it runs schedules, rules and builds from then on", Args: cobra.NoArgs,
		Long: `A node that was started with serve --quiet-copy answers readers and does nothing by
itself, so that a restored copy neither calls the builders nor carries out what was
scheduled. This lets it work, until it ends.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := s.Wake(cmd.Context()); err != nil {
				return err
			}
			return a.Print(map[string]bool{"awake": true}, func(t *command.Table) { t.Line("The node works now.") })
		},
	}
}
