package settingscmd

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/rule"
)

// Rule returns the command rule.
func (a *Commands) Rule() *cobra.Command {
	return command.Noun("rule", "Have something done on events, or at times", append([]*cobra.Command{
		a.ruleList(), a.ruleRuns(), a.ruleTry(), a.ruleRun(),
	}, a.verbs("rule", "a rule")...)...)
}

func (a *Commands) ruleList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the rules with how they stand", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().Rules(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("RULE", "ON", "DOES", "FIRED", "LAST", "OUTCOME")
				for i := range all {
					drawRule(t, &all[i])
				}
			})
		},
	}
}

func drawRule(t *command.Table, r *api.RuleState) {
	on, last, outcome := strings.Join(r.On, ", "), "–", "–"
	if r.At != "" {
		on = r.At
	}
	if r.LastRun != nil {
		last, outcome = command.When(&r.LastRun.At), r.LastRun.State
	}
	switch {
	case r.Off:
		outcome = "off"
	case r.Broken != "":
		outcome = "broken"
	}
	var does []string
	for i := range r.Do {
		does = append(does, r.Do[i].Kind())
	}
	t.Row(t.Short(r.Name, 34), t.Cut(on, 24), t.Cut(strings.Join(does, ", "), 16), r.Fired, last, outcome)
	if r.Broken != "" {
		t.Line("✗ " + r.Broken)
	}
	for _, w := range r.Warnings {
		t.Line("! " + w)
	}
}

func (a *Commands) ruleRuns() *cobra.Command {
	var f api.RuleRunFilter
	c := &cobra.Command{
		Use: "runs", Short: "List what rules made of events, and why others did not fire", Args: cobra.NoArgs,
		Example: "  ubiquon rule runs --rule 'Show cancelled crossings at once' --outcome not-fired",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().Runs(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("RUN", "AT", "RULE", "EVENT", "CHANGE", "OUTCOME", "WHY, OR WHAT WAS DONE")
				for i := range all {
					r := &all[i]
					t.Row(
						r.ID,
						command.When(&r.At),
						t.Cut(r.Rule, 20),
						r.Event,
						r.Sequence,
						r.State,
						t.Short(saysOf(r), 32),
					)
				}
			})
		},
	}
	c.Flags().StringVar(&f.Rule, "rule", "", "only runs of this rule")
	c.Flags().StringVar(&f.Entry, "entry", "", "only runs about this entry")
	c.Flags().Int64Var(&f.Sequence, "sequence", 0, "only runs about this change")
	c.Flags().StringVar(&f.Outcome, "outcome", "", "only these: fired, not-fired, running, done or failed")
	c.Flags().IntVar(&f.Limit, "limit", 20, "how many at most")
	return c
}

// saysOf is why a rule did not fire, or what its last step did.
func saysOf(r *api.RuleRun) string {
	if !r.Fired {
		return r.Reason
	}
	var out []string
	for _, s := range r.Steps {
		switch {
		case s.Error != "":
			out = append(out, s.Kind+": "+s.Error)
		case s.Result != "":
			out = append(out, s.Result)
		default:
			out = append(out, s.Kind+" "+s.State)
		}
	}
	return strings.Join(out, "; ")
}

func (a *Commands) ruleRun() *cobra.Command {
	show := &cobra.Command{
		Use: "show RUN", Short: "Show a run, step by step", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			r, err := s.Settings().Run(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(r, func(t *command.Table) { drawRun(t, &r) })
		},
	}
	again := &cobra.Command{
		Use: "again RUN", Short: "Do the step again that has failed, and those after it", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			r, err := s.Settings().RunAgain(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(r, func(t *command.Table) { drawRun(t, &r) })
		},
	}
	return command.Noun("run", "Look at one run of a rule", show, again)
}

func drawRun(t *command.Table, r *api.RuleRun) {
	t.Row("run", fmt.Sprintf("%d of rule %s, %s", r.ID, r.Rule, r.State))
	about := r.Event
	if r.Entry != "" {
		about += fmt.Sprintf(" of %s %s", r.Type, r.Entry)
	}
	if r.Sequence > 0 {
		about += fmt.Sprintf(", change %d", r.Sequence)
	}
	t.Row("about", about)
	t.Row("at", command.When(&r.At))
	if r.Reason != "" {
		t.Row("did not fire", r.Reason)
	}
	if r.About != nil && len(r.About.Chain) > 0 {
		t.Row("follows from", strings.Join(r.About.Chain, " → "))
	}
	for _, s := range r.Steps {
		took := ""
		if s.Took != nil {
			took = fmt.Sprintf("%.0f ms", *s.Took)
		}
		text := s.Result
		if s.Error != "" {
			text = s.Error
		}
		if s.Due != nil {
			text += ", next try " + command.When(s.Due)
		}
		t.Row(fmt.Sprintf("step %d", s.Step+1), s.Kind, s.State, fmt.Sprintf("%d tries", s.Attempts), took, text)
	}
}

func (a *Commands) ruleTry() *cobra.Command {
	var in api.RuleTrial
	var file string
	c := &cobra.Command{
		Use: "try RULE", Short: "Say what a rule would make of something, and do nothing", Args: cobra.ExactArgs(1),
		Long: `Says whether a rule would fire, and if not, why not; with every step as it would be
done: the mail's text, the body of a call. Without a flag it is tried on the last
changes of content.`,
		Example: "  ubiquon rule try 'Close the season'\n" +
			"  ubiquon rule try 'Show cancelled crossings at once' --entry fog --on published",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			in.Name = args[0]
			if in.Entry != "" {
				if in.Entry, err = a.Find(cmd.Context(), s, in.Entry); err != nil {
					return err
				}
			}
			if file != "" {
				src, err := a.read(file)
				if err != nil {
					return err
				}
				in.Rule = &rule.Rule{}
				if err := yaml.Unmarshal(src, in.Rule); err != nil {
					return command.Misusef("%s: %w", file, err)
				}
			}
			out, err := s.Settings().Try(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.Print(out, func(t *command.Table) { drawTrial(t, &out) })
		},
	}
	c.Flags().StringVar(&in.Event, "event", "", "on the changes of this announcement")
	c.Flags().Int64Var(&in.Sequence, "sequence", 0, "on this change")
	c.Flags().StringVar(&in.Entry, "entry", "", "on this entry as it stands")
	c.Flags().StringVar(&in.On, "on", "", "the event that is supposed of the entry; default published")
	c.Flags().StringVar(&file, "file", "", "a rule to try in place of the one that is kept; - for standard input")
	return c
}

func drawTrial(t *command.Table, out *api.RuleTrialOutcome) {
	for _, p := range out.Problems {
		t.Line("✗ " + strings.TrimPrefix(p.Path+": "+p.Text, ": "))
	}
	for _, w := range out.Warnings {
		t.Line("! " + w)
	}
	for _, v := range out.Trials {
		what := v.About.Event
		if v.About.Sequence > 0 {
			what = fmt.Sprintf("change %d, %s", v.About.Sequence, what)
		}
		if v.About.Title != "" {
			what += " “" + v.About.Title + "”"
		}
		if !v.Fires {
			t.Line("✗ " + what + ": " + v.Reason)
			continue
		}
		t.Line("✓ " + what + ": it would fire")
		for _, s := range v.Steps {
			t.Line("    " + s.Says)
			for line := range strings.Lines(s.Text) {
				t.Line("      " + strings.TrimSuffix(line, "\n"))
			}
		}
	}
	if len(out.Trials) == 0 && len(out.Problems) == 0 {
		t.Line("There is no change of content to try it on.")
	}
}
