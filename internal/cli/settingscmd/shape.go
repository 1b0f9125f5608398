package settingscmd

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/shape"
	"ubiquon/internal/core/strictyaml"
)

// Shape returns the command shape.
func (a *Commands) Shape() *cobra.Command {
	return command.Noun("shape", "Look at the forms in which front ends get entries of several types",
		a.shapeList(), a.shapeShow(), a.shapeCheck())
}

func (a *Commands) presentModel(cmd *cobra.Command) (*model.Model, error) {
	s, err := a.Service()
	if err != nil {
		return nil, err
	}
	return s.Models().Present(cmd.Context())
}

func (a *Commands) shapeList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the shapes of the model", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := a.presentModel(cmd)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": append([]model.Shape{}, m.Shapes...)}, func(t *command.Table) {
				t.Row("SHAPE", "OF", "MEMBERS", "")
				for _, s := range m.Shapes {
					t.Row(s.Name, strings.Join(s.Of, ", "), strconv.Itoa(len(s.Fields)), s.Help)
				}
			})
		},
	}
}

func (a *Commands) shapeShow() *cobra.Command {
	return &cobra.Command{
		Use: "show SHAPE", Short: "Show what a shape has, and where it comes from in each type", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.presentModel(cmd)
			if err != nil {
				return err
			}
			s := m.Shape(args[0])
			if s == nil {
				return fmt.Errorf("there is no shape %q%s", args[0], strictyaml.DidYouMean(args[0], m.ShapeNames()))
			}
			return a.Print(s, func(t *command.Table) {
				t.Row(append([]any{"MEMBER"}, asAny(s.Of)...)...)
				for _, f := range s.Fields {
					row := []any{f.Name}
					for _, typ := range s.Of {
						row = append(row, command.OrDash(f.For(typ)))
					}
					t.Row(row...)
				}
				if m.Type(s.Of[0]) != nil {
					t.Line("")
					t.Line(fmt.Sprintf("→ ubiquon read '/%s?shape=%s'", m.Type(s.Of[0]).Plural, s.Name))
				}
			})
		},
	}
}

func asAny(texts []string) []any {
	out := make([]any, len(texts))
	for i := range texts {
		out[i] = texts[i]
	}
	return out
}

func (a *Commands) shapeCheck() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use: "check", Short: "Say what is wrong with the shapes of the model, or of model files", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := (*model.Model)(nil), error(nil)
			if dir == "" {
				m, err = a.presentModel(cmd)
			} else {
				m, err = command.ReadModel(dir)
			}
			if err != nil {
				return err
			}
			if wrong := shape.Check(m); len(wrong) > 0 {
				return errors.New(strings.Join(wrong, "\n"))
			}
			return a.Print(map[string]any{"shapes": len(m.Shapes)}, func(t *command.Table) {
				t.Line(fmt.Sprintf("%d shapes fit the model.", len(m.Shapes)))
			})
		},
	}
	c.Flags().StringVar(&dir, "model", "", "directory of model files; default: the model in force")
	return c
}
