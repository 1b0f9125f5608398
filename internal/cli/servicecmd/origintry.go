package servicecmd

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
)

func (a *Commands) originCompare() *cobra.Command {
	return &cobra.Command{
		Use: "compare ORIGIN", Short: "Say how what an origin has differs from what is stored, and change nothing",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			c, err := s.Origins().Compare(cmd.Context(), args[0],
				func(typ string, seen int) { fmt.Fprintf(a.Err, "read %d of type %s\n", seen, typ) })
			if err != nil {
				return err
			}
			return a.Print(c, func(t *command.Table) { showComparison(t, c) })
		},
	}
}

func showComparison(t *command.Table, c api.Comparison) {
	t.Line(
		fmt.Sprintf(
			"%d items: %d are the same, %d differ, %d are not here, %d cannot be taken; %d entries are not there.",
			c.Seen,
			c.Same,
			c.DifferentAll,
			c.MissingAll,
			c.NotTakenAll,
			c.ExtraAll,
		),
	)
	for _, d := range c.Different {
		text := strings.Join(d.Fields, ", ")
		if d.State != "" {
			text = strings.TrimPrefix(text+"; "+d.State, "; ")
		}
		t.Line(fmt.Sprintf("≠ %s %s (%s): %s", d.Type, d.Key, d.Title, text))
	}
	for _, one := range c.Missing {
		t.Line("+ not here: " + one)
	}
	for _, one := range c.Extra {
		t.Line("− not there: " + one)
	}
	for _, one := range c.NotTaken {
		t.Line(fmt.Sprintf("✗ %s %s: %s", one.Type, one.Key, strings.Join(one.Reasons, "; ")))
	}
}

// showImpact shows what readers would get otherwise.
func showImpact(t *command.Table, f *api.Impact) {
	if f == nil {
		return
	}
	t.Line(fmt.Sprintf("Readers would see %d changes; %d answers that are held would be computed again.",
		f.Changes, f.AnswersAll))
	for _, name := range f.Saved {
		t.Line("≠ saved read " + name)
	}
	for i := range f.Answers {
		t.Line("≠ " + f.Answers[i].Asked)
	}
	for i := range f.Pages {
		drawAffected(t, &f.Pages[i])
	}
}

// readValue reads a file as JSON or YAML; - is standard input.
func (a *Commands) readValue(cmd *cobra.Command, file string) (v any, err error) {
	var src []byte
	if file == "-" {
		src, err = io.ReadAll(cmd.InOrStdin())
	} else {
		src, err = os.ReadFile(file)
	}
	if err != nil {
		return nil, err
	}
	if err := yaml.Unmarshal(src, &v); err != nil {
		return nil, fmt.Errorf("%s is neither JSON nor YAML: %w", file, err)
	}
	return v, nil
}

// specFrom reads the configuration of an origin: a file with it alone, or one of several with origins.
func (a *Commands) specFrom(cmd *cobra.Command, file, name string) (any, error) {
	if file == "" {
		return nil, nil
	}
	v, err := a.readValue(cmd, file)
	if err != nil {
		return nil, err
	}
	object, _ := v.(map[string]any)
	if all, is := object["origins"].(map[string]any); is {
		if all[name] == nil {
			return nil, fmt.Errorf("%s has no origin %s", file, name)
		}
		return all[name], nil
	}
	return v, nil
}

func (a *Commands) originTry() *cobra.Command {
	var item, key, typ, spec string
	c := &cobra.Command{
		Use: "try ORIGIN", Short: "Show which entry an item of an origin becomes, and what is wrong with it",
		Long: `Maps an item as the origin has it, without keeping anything: one from a file, the
one with a key, or the first that the origin lists. With --spec the mapping is
another than the one that is in force, in a file.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			t := api.OriginTry{OriginRef: api.OriginRef{Origin: args[0]}, Type: typ, Key: key}
			if item != "" {
				if t.Item, err = a.readValue(cmd, item); err != nil {
					return err
				}
			}
			if t.Spec, err = a.specFrom(cmd, spec, args[0]); err != nil {
				return err
			}
			tried, err := s.Origins().Try(cmd.Context(), t)
			if err != nil {
				return err
			}
			return a.Print(tried, func(t *command.Table) { showTried(t, tried) })
		},
	}
	c.Flags().StringVar(&item, "item", "", "file with an item, JSON or YAML; - for standard input")
	c.Flags().StringVar(&key, "key", "", "what the origin calls the item that is fetched")
	c.Flags().StringVar(&typ, "type", "", "type that it becomes, where the origin maps several")
	c.Flags().StringVar(&spec, "spec", "", "file with another configuration of the origin, which is not saved")
	return c
}

func showTried(t *command.Table, tried api.OriginTried) {
	state := "only saved"
	if tried.Published {
		state = "published"
	}
	t.Row("entry", strings.TrimSpace(tried.Type+" "+tried.ID))
	t.Row("key", tried.Key)
	if tried.Fields != nil {
		t.Row("state", state)
	}
	t.Line("")
	for _, name := range command.SortedNames(tried.Fields) {
		src, err := json.Marshal(tried.Fields[name])
		if err != nil {
			src = []byte(err.Error())
		}
		t.Row(name, t.Short(string(src), 90))
	}
	for _, p := range tried.Problems {
		t.Line("✗ " + p)
	}
	for _, lost := range tried.Lost {
		t.Line("! not delivered: " + lost)
	}
	if len(tried.Problems) == 0 {
		t.Line("✓ it would be taken over")
	}
}

func (a *Commands) originSwap() *cobra.Command {
	var by string
	var apply bool
	c := &cobra.Command{
		Use: "swap OLD NEW", Short: "Have an origin take the place of another one, or rehearse that",
		Long: `For the types that NEW maps, its items become the entries that come from OLD now, and
NEW is read instead: ids, paths and histories stay. NEW is configured with
standby: true before. Without --apply it only says which entries would change hands,
and in what readers would see a difference. swap NEW OLD takes it back.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			done, err := s.Origins().Swap(cmd.Context(), args[0], args[1], by, apply,
				func(typ string, seen int) { fmt.Fprintf(a.Err, "read %d of type %s\n", seen, typ) })
			if err != nil {
				return err
			}
			return a.Print(done, func(t *command.Table) {
				t.Line(fmt.Sprintf(
					"%s: %d entries of %s change hands, %d are left, %d are new.",
					strings.Join(
						done.Types,
						", ",
					),
					done.Adoption.Adopted,
					args[0],
					done.Adoption.LeftAll,
					done.Adoption.NewAll,
				))
				for _, left := range done.Adoption.Left {
					t.Line("− left: " + left)
				}
				for _, one := range done.Adoption.New {
					t.Line("+ new: " + one)
				}
				if done.Restores > 0 {
					t.Line(
						fmt.Sprintf("Version %d of the configuration of %s is taken up again.", done.Restores, args[1]),
					)
				}
				if !apply {
					showComparison(t, done.Differences)
					showImpact(t, done.Readers)
					t.Line("→ nothing is changed yet; carry it out with --apply")
				}
			})
		},
	}
	c.Flags().StringVar(&by, "by", "", "recognise entries by key, slug or path alone")
	c.Flags().BoolVar(&apply, "apply", false, "carry it out")
	return c
}

// HookCommand returns the command hook.
func (a *Commands) HookCommand() *cobra.Command {
	return command.Noun("hook", "Look at the calls that origins make, and try them", a.hookCapture(), a.hookCaptured(),
		a.hookTry())
}

func (a *Commands) hookCapture() *cobra.Command {
	var minutes int
	var end bool
	c := &cobra.Command{
		Use: "capture ORIGIN", Short: "Keep the next calls of a hook without acting on them", Args: cobra.ExactArgs(1),
		Long: `The origin need not be configured: calls to /hooks/ORIGIN are kept as they come, so
that their form can be seen and a mapping be made of them. What may prove their
sender is left out. Up to twenty are kept, for a day.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if end {
				minutes = 0
			}
			calls, err := s.Origins().Capture(cmd.Context(), args[0], minutes)
			if err != nil {
				return err
			}
			return a.Print(calls, func(t *command.Table) {
				if calls.Until == nil {
					t.Line("Calls are acted on again.")
					return
				}
				t.Line(fmt.Sprintf("Calls to /hooks/%s are kept until %s, and not acted on.", args[0],
					command.When(calls.Until)))
				t.Line("→ ubiquon hook captured " + args[0])
			})
		},
	}
	c.Flags().IntVar(&minutes, "minutes", 10, "for how long, 1 to 120")
	c.Flags().BoolVar(&end, "end", false, "act on calls again")
	return c
}

func (a *Commands) hookCaptured() *cobra.Command {
	return &cobra.Command{
		Use: "captured ORIGIN", Short: "Show the calls that were kept without acting on them", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			calls, err := s.Origins().Captured(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(calls, func(t *command.Table) {
				if calls.Until != nil {
					t.Line("Calls are kept until " + command.When(calls.Until) + ", and not acted on.")
				}
				if len(calls.Items) == 0 {
					t.Line("None has come.")
				}
				for _, one := range calls.Items {
					t.Line("")
					t.Line(fmt.Sprintf("%s  %s from %s, %s", one.ID, one.Method, one.Address, command.When(&one.At)))
					for _, name := range command.SortedNames(one.Header) {
						t.Line("  " + name + ": " + one.Header[name])
					}
					t.Line("")
					t.Line("  " + strings.ReplaceAll(one.Body, "\n", "\n  "))
				}
			})
		},
	}
}

func (a *Commands) hookTry() *cobra.Command {
	var file, captured, spec string
	var headers []string
	c := &cobra.Command{
		Use: "try ORIGIN", Short: "Say what would become of a call: whether it is proven, and what it announces",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			t := api.HookTry{
				OriginRef: api.OriginRef{Origin: args[0]}, Header: map[string]string{}, Captured: captured,
			}
			for _, h := range headers {
				name, value, ok := strings.Cut(h, ":")
				if !ok {
					return command.Misusef(`--header %q is not "Name: value"`, h)
				}
				t.Header[strings.TrimSpace(name)] = strings.TrimSpace(value)
			}
			if file != "" {
				src, err := os.ReadFile(file)
				if file == "-" {
					src, err = io.ReadAll(cmd.InOrStdin())
				}
				if err != nil {
					return err
				}
				t.Body = string(src)
			}
			if t.Spec, err = a.specFrom(cmd, spec, args[0]); err != nil {
				return err
			}
			tried, err := s.Origins().TryHook(cmd.Context(), t)
			if err != nil {
				return err
			}
			return a.Print(tried, func(t *command.Table) { showTriedHook(t, tried) })
		},
	}
	c.Flags().StringVar(&file, "file", "", "file with the body; - for standard input")
	c.Flags().StringArrayVar(&headers, "header", nil, `header of the call, as in "Content-Type: application/json"`)
	c.Flags().StringVar(&captured, "captured", "", "id of a call that was kept: see ubiquon hook captured")
	c.Flags().StringVar(&spec, "spec", "", "file with another configuration of the origin, which is not saved")
	return c
}

func showTriedHook(t *command.Table, tried api.HookTried) {
	if tried.Refused != "" {
		t.Line("✗ " + tried.Refused)
	} else {
		t.Line("✓ proven: " + tried.Proof)
	}
	if tried.Unreadable != "" {
		t.Line("✗ it cannot be read: " + tried.Unreadable)
	}
	for _, one := range tried.Announced {
		switch {
		case one.Unknown != "":
			t.Line("! not understood: " + one.Unknown)
		case one.Type == "":
			t.Line("✓ " + one.Kind + ": what has changed is asked for")
		default:
			t.Line(fmt.Sprintf("✓ %s: %s %s (%s)", one.Kind, one.OriginKind, one.Key, one.Type))
		}
	}
}
