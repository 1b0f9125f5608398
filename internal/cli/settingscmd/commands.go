// Package settingscmd has the commands of the configuration that is managed while the service
// runs: rules, sites, origins, secrets, mail; and of the folder that describes all of it.
package settingscmd

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
)

// Commands makes the commands of this package. It is for one run of the command line.
type Commands struct{ *command.App }

// verbs are the commands that every kind of setting has; noun is what the kind is called in a
// sentence.
func (a *Commands) verbs(kind, noun string) []*cobra.Command {
	arg := strings.ToUpper(kind)
	return []*cobra.Command{
		a.show(kind, noun, arg), a.write(kind, noun, arg, true), a.write(kind, noun, arg, false),
		a.toggle(kind, noun, arg, true), a.toggle(kind, noun, arg, false), a.remove(kind, noun, arg),
		a.history(kind, noun, arg),
	}
}

func (a *Commands) show(kind, noun, arg string) *cobra.Command {
	return &cobra.Command{
		Use: "show " + arg, Short: "Print " + noun + " in the form of its file", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			saved, err := s.Settings().Get(cmd.Context(), kind, args[0])
			if err != nil {
				return err
			}
			return a.Print(saved, func(t *command.Table) { drawSetting(t, saved) })
		},
	}
}

func drawSetting(t *command.Table, saved api.SavedSetting) {
	src, err := yaml.JSONToYAML(saved.Spec)
	if err != nil {
		src = saved.Spec
	}
	t.Line(fmt.Sprintf("# %s %s, version %d of %s by %s", saved.Kind, saved.Name, saved.Version,
		saved.At.Local().Format("2006-01-02 15:04:05"), saved.By))
	t.Line(strings.TrimSuffix(string(src), "\n"))
	for _, w := range saved.Warnings {
		t.Line("! " + w)
	}
	for _, p := range saved.Problems {
		t.Line("✗ " + p.Text)
	}
}

func (a *Commands) write(kind, noun, arg string, create bool) *cobra.Command {
	var file string
	var check bool
	verb, short := "edit", "Replace "+noun
	if create {
		verb, short = "create", "Make "+noun
	}
	c := &cobra.Command{
		Use: verb + " " + arg, Short: short, Args: cobra.ExactArgs(1),
		Long: short + `, which is described in YAML or JSON, in the form of its file without its name.
Everything that is wrong with it is said at once; then nothing is changed.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			ctx, name, version := cmd.Context(), args[0], int64(0)
			present, err := s.Settings().Get(ctx, kind, name)
			switch {
			case create && err == nil:
				return command.Misusef("there is %s %q already; edit it", noun, name)
			case !create && err != nil:
				return err
			}
			version = present.Version
			src, err := a.read(file)
			if err != nil {
				return err
			}
			saved, err := s.Settings().Put(ctx, kind, name, src, version, check)
			if err != nil {
				return err
			}
			return a.Print(saved, func(t *command.Table) {
				switch {
				case len(saved.Problems) > 0:
					for _, p := range saved.Problems {
						t.Line(strings.TrimSpace("✗ " + strings.TrimSuffix(p.Path+": "+p.Text, ": ")))
					}
				case check:
					t.Line("✓ Nothing is wrong with it.")
				default:
					t.Line(fmt.Sprintf("✓ Saved %s %s, version %d.", kind, name, saved.Version))
				}
				for _, w := range saved.Warnings {
					t.Line("! " + w)
				}
			})
		},
	}
	c.Flags().StringVar(&file, "file", "", "the file; - for standard input")
	c.Flags().BoolVar(&check, "check", false, "say what would be wrong, and change nothing")
	_ = c.MarkFlagRequired("file") // there is such a flag
	return c
}

// read reads a file, or standard input.
func (a *Commands) read(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(a.In, 1<<20))
	}
	return os.ReadFile(file)
}

func (a *Commands) toggle(kind, noun, arg string, on bool) *cobra.Command {
	verb, short := "disable", "Switch "+noun+" off, and keep it"
	if on {
		verb, short = "enable", "Switch "+noun+" on again"
	}
	return &cobra.Command{
		Use: verb + " " + arg, Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			saved, err := switched(cmd.Context(), s, kind, args[0], on)
			if err != nil {
				return err
			}
			return a.Print(saved, func(t *command.Table) {
				t.Line(fmt.Sprintf("✓ %s %s is %s, version %d.", kind, saved.Name,
					map[bool]string{true: "on", false: "off"}[on], saved.Version))
			})
		},
	}
}

// switched sets the member off of a setting.
func switched(ctx context.Context, s *client.Client, kind, name string, on bool) (api.SavedSetting, error) {
	saved, err := s.Settings().Get(ctx, kind, name)
	if err != nil {
		return saved, err
	}
	var spec yaml.MapSlice // which keeps the order
	if err := yaml.UnmarshalWithOptions(saved.Spec, &spec, yaml.UseOrderedMap()); err != nil {
		return saved, err
	}
	kept := yaml.MapSlice{}
	for _, item := range spec {
		if item.Key != "off" {
			kept = append(kept, item)
		}
	}
	if !on {
		kept = append(kept, yaml.MapItem{Key: "off", Value: true})
	}
	src, err := yaml.Marshal(kept)
	if err != nil {
		return saved, err
	}
	return s.Settings().Put(ctx, kind, name, src, saved.Version, false)
}

func (a *Commands) remove(kind, noun, arg string) *cobra.Command {
	return &cobra.Command{
		Use: "remove " + arg, Short: "Remove " + noun, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := s.Settings().Remove(cmd.Context(), kind, args[0]); err != nil {
				return err
			}
			return a.Print(map[string]string{"removed": args[0]}, func(t *command.Table) {
				t.Line(fmt.Sprintf("✓ Removed %s %s. ubiquon %[1]s history %[2]s has what it was.", kind, args[0]))
			})
		},
	}
}

func (a *Commands) history(kind, noun, arg string) *cobra.Command {
	return &cobra.Command{
		Use: "history " + arg, Short: "List the versions of " + noun + ", the newest first", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().Versions(cmd.Context(), kind, args[0])
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("VERSION", "AT", "BY", "WHAT IT WAS")
				for _, v := range all {
					text := string(v.Spec)
					if v.Spec == nil || text == "null" {
						text = "removed"
					}
					t.Row(v.Version, command.When(&v.At), v.By, t.Short(text, 60))
				}
			})
		},
	}
}

// plain decodes a record to be drawn.
func plain(spec json.RawMessage) map[string]any {
	var out map[string]any
	_ = json.Unmarshal(spec, &out) // it came from the service
	return out
}
