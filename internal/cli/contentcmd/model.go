package contentcmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/core/model"
)

// Model returns the command model.
func (a *Commands) Model() *cobra.Command {
	return command.Noun("model", "Describe content: types, fields, locales", a.modelShow(), a.modelCheck(),
		a.modelDiff(), a.modelApply())
}

func (a *Commands) modelShow() *cobra.Command {
	show := &cobra.Command{
		Use: "show [TYPE]", Short: "Print the model in force, as a model file", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			m, err := s.Models().Present(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 1 {
				t := m.Type(args[0])
				if t == nil {
					return fmt.Errorf("there is no type %q", args[0])
				}
				m = &model.Model{Types: []*model.Type{t}}
			}
			if a.Output == "json" {
				return a.Print(m, nil)
			}
			src := string(m.YAML())
			if len(m.Locales) == 0 {
				src = strings.TrimPrefix(src, "locales:\n")
			}
			_, err = fmt.Fprint(a.Out, src)
			return err
		},
	}
	return show
}

func (a *Commands) modelCheck() *cobra.Command {
	check := &cobra.Command{
		Use: "check DIR", Short: "Check the model files in a directory, without a service", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			m, err := command.ReadModel(args[0])
			if err != nil {
				return err
			}
			return a.Print(map[string]int{"types": len(m.Types), "locales": len(m.Locales)}, func(t *command.Table) {
				t.Line(fmt.Sprintf("Fine: %d types, %d locales.", len(m.Types), len(m.Locales)))
			})
		},
	}
	return check
}

func (a *Commands) modelDiff() *cobra.Command {
	var exitCode bool
	diff := &cobra.Command{
		Use: "diff DIR|FILE", Short: "Show what applying model files would change", Long: aboutModelFiles,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, files, err := a.sendModel(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			plan, err := s.Models().Plan(cmd.Context(), files)
			if err != nil {
				return err
			}
			if err := a.Print(plan, func(t *command.Table) { drawPlan(t, plan) }); err != nil {
				return err
			}
			if exitCode && len(plan.Consequences) > 0 {
				return errors.New("the models differ")
			}
			return nil
		},
	}
	diff.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 if there is any difference")
	return diff
}

func (a *Commands) modelApply() *cobra.Command {
	var allowLoss bool
	apply := &cobra.Command{
		Use: "apply DIR|FILE", Short: "Apply model files, and convert what is stored",
		Long: aboutModelFiles, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, files, err := a.sendModel(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			plan, err := s.Models().Plan(cmd.Context(), files)
			if err != nil {
				return err
			}
			if len(plan.Consequences) == 0 {
				return a.Print(plan, func(t *command.Table) { t.Line("Nothing to do: this is the model already.") })
			}
			if a.Output == "table" {
				if err := a.Print(plan, func(t *command.Table) { drawPlan(t, plan) }); err != nil {
					return err
				}
			}
			var last api.ConversionProgress
			err = s.Models().Apply(cmd.Context(), files, allowLoss, plan.Version, a.tellConversion(&last))
			if err != nil {
				return err
			}
			return a.Print(last, func(t *command.Table) {
				t.Line(fmt.Sprintf("Applied as version %d; %d entries converted.", last.Version, last.Done))
			})
		},
	}
	apply.Flags().BoolVar(&allowLoss, "allow-loss", false, "apply it even if content is lost")
	return apply
}

func drawPlan(t *command.Table, plan api.ModelPlan) {
	if len(plan.Consequences) == 0 {
		t.Line("No difference.")
	} else {
		t.Row("EFFECT", "WHERE", "WHAT", "ENTRIES", "")
	}
	for _, c := range plan.Consequences {
		entries := "–"
		if c.Entries > 0 {
			entries = fmt.Sprint(c.Entries)
		}
		t.Row(c.Severity, c.Where, c.What, entries, t.Short(c.Text, 52))
		if len(c.Readers) > 0 {
			t.Row("", "", "", "", t.Short("read by "+strings.Join(c.Readers, ", "), 52))
		}
	}
	for _, b := range plan.Breaks {
		t.Line("✗ would not be answered any more: " + b.What)
		t.Line("    " + t.Short(b.Request, 90))
		t.Line("    " + t.Short(b.Reason, 90))
	}
	for _, w := range plan.Warnings {
		t.Line("! " + w)
	}
	for _, c := range plan.Conflicts {
		t.Line("In the way: " + c)
	}
}

// tellConversion returns what shows how far a conversion has come, and keeps the last word of it.
func (a *Commands) tellConversion(last *api.ConversionProgress) func(api.ConversionProgress) {
	progress := a.Progress()
	return func(p api.ConversionProgress) {
		if *last = p; p.Total == 0 || p.Applied {
			return
		}
		progress.Show("Converted %d of %d entries", p.Done, max(p.Done, p.Total)) // what lives below is converted, too
		if p.Done >= p.Total {
			progress.End()
		}
	}
}

// sendModel reads the model files of a directory; what is wrong with them is
// told before any service is asked.
func (a *Commands) sendModel(ctx context.Context, path string) (*client.Client, map[string]string, error) {
	s, err := a.Service()
	if err != nil {
		return nil, nil, err
	}
	out := map[string]string{}
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		src, err := os.ReadFile(path)
		if err != nil {
			return nil, nil, err
		}
		present, err := s.Models().Present(ctx)
		if err != nil {
			return nil, nil, err
		}
		var named struct {
			Locales map[string]any
			Types   map[string]struct{ Was string }
			Shapes  map[string]any
		}
		if err := yaml.Unmarshal(src, &named); err != nil {
			return nil, nil, fmt.Errorf("%s: %w", path, err)
		}
		given := map[string]bool{}
		for name, t := range named.Types {
			given[name], given[t.Was] = true, true
		}
		rest := &model.Model{Locales: present.Locales}
		if named.Locales != nil {
			rest.Locales = nil
		}
		for _, t := range present.Types {
			if !given[t.Name] {
				rest.Types = append(rest.Types, t)
			}
		}
		for _, one := range present.Shapes {
			if _, is := named.Shapes[one.Name]; !is {
				rest.Shapes = append(rest.Shapes, one)
			}
		}
		text := string(rest.YAML())
		if rest.Locales == nil {
			text = strings.TrimPrefix(text, "locales:\n")
		}
		out["the model in force.yaml"], out[filepath.Base(path)] = text, string(src)
		return s, out, nil
	}
	if _, err := command.ReadModel(path); err != nil {
		return nil, nil, err
	}
	files, err := command.ModelFiles(path)
	for name, src := range files {
		out[name] = string(src)
	}
	return s, out, err
}

// aboutModelFiles is the help on what the files are that are sent.
const aboutModelFiles = `A directory has the whole model. A file has some of its types: those are added or
changed, and the others stay as they are.`
