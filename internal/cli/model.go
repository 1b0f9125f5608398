package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/client"
	"ubiquon/internal/core/model"
)

func (a *app) model() *cobra.Command {
	show := &cobra.Command{
		Use: "show [TYPE]", Short: "Print the model in force, as a model file", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
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
			if a.output == "json" {
				return a.print(m, nil)
			}
			src := string(m.YAML())
			if len(m.Locales) == 0 {
				src = strings.TrimPrefix(src, "locales:\n")
			}
			_, err = fmt.Fprint(a.out, src)
			return err
		},
	}
	check := &cobra.Command{
		Use: "check DIR", Short: "Check the model files in a directory, without a service", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			m, err := readModel(args[0])
			if err != nil {
				return err
			}
			return a.print(map[string]int{"types": len(m.Types), "locales": len(m.Locales)}, func(t *table) {
				t.line(fmt.Sprintf("Fine: %d types, %d locales.", len(m.Types), len(m.Locales)))
			})
		},
	}
	var exitCode bool
	diff := &cobra.Command{
		Use: "diff DIR|FILE", Short: "Say what applying model files would do", Long: aboutModelFiles,
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
			if err := a.print(plan, func(t *table) { drawPlan(t, plan) }); err != nil {
				return err
			}
			if exitCode && len(plan.Consequences) > 0 {
				return errors.New("the models differ")
			}
			return nil
		},
	}
	diff.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 if there is any difference")
	var allowLoss bool
	apply := &cobra.Command{
		Use: "apply DIR|FILE", Short: "Make model files the model, and convert what is stored",
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
				return a.print(plan, func(t *table) { t.line("Nothing to do: this is the model already.") })
			}
			if a.output == "table" {
				if err := a.print(plan, func(t *table) { drawPlan(t, plan) }); err != nil {
					return err
				}
			}
			var last client.Conversion
			err = s.Models().Apply(
				cmd.Context(), files, allowLoss, plan.Version,
				func(p client.Conversion) { last = p; a.tellConversion(p) },
			)
			if err != nil {
				return err
			}
			return a.print(last, func(t *table) {
				t.line(fmt.Sprintf("Applied as version %d; %d entries converted.", last.Version, last.Done))
			})
		},
	}
	apply.Flags().BoolVar(&allowLoss, "allow-loss", false, "apply it even if content is lost")
	return noun("model", "Describe content: types, fields, locales", show, check, diff, apply)
}

func drawPlan(t *table, plan client.ModelPlan) {
	if len(plan.Consequences) == 0 {
		t.line("No difference.")
	} else {
		t.row("EFFECT", "WHERE", "WHAT", "ENTRIES", "")
	}
	for _, c := range plan.Consequences {
		entries := "–"
		if c.Entries > 0 {
			entries = fmt.Sprint(c.Entries)
		}
		t.row(c.Severity, c.Where, c.What, entries, t.short(c.Text, 52))
		if len(c.Readers) > 0 {
			t.row("", "", "", "", t.short("read by "+strings.Join(c.Readers, ", "), 52))
		}
	}
	for _, b := range plan.Breaks {
		t.line("✗ would not be answered any more: " + b.What)
		t.line("    " + t.short(b.Request, 90))
		t.line("    " + t.short(b.Reason, 90))
	}
	for _, w := range plan.Warnings {
		t.line("! " + w)
	}
	for _, c := range plan.Conflicts {
		t.line("In the way: " + c)
	}
}

// tellConversion shows progress where somebody watches.
func (a *app) tellConversion(p client.Conversion) {
	if p.Total > 0 && !p.Applied {
		fmt.Fprintf(
			a.err, "\rConverted %d of %d entries", p.Done, max(p.Done, p.Total),
		) // what lives below is converted, too
		if p.Done >= p.Total {
			fmt.Fprintln(a.err)
		}
	}
}

// sendModel reads the model files of a directory; what is wrong with them is
// told before any service is asked.
func (a *app) sendModel(ctx context.Context, path string) (*client.Client, map[string]string, error) {
	s, err := a.service()
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
		text := string(rest.YAML())
		if rest.Locales == nil {
			text = strings.TrimPrefix(text, "locales:\n")
		}
		out["the model in force.yaml"], out[filepath.Base(path)] = text, string(src)
		return s, out, nil
	}
	if _, err := readModel(path); err != nil {
		return nil, nil, err
	}
	files, err := modelFiles(path)
	for name, src := range files {
		out[name] = string(src)
	}
	return s, out, err
}

// aboutModelFiles is the help on what the files are that are sent.
const aboutModelFiles = `A directory has the whole model. A file has some of its types: those are added or
changed, and the others stay as they are.`
