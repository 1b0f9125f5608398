package contentcmd

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// form writes the fields of an entry as YAML, each with a word on what it takes.
func form(m *model.Model, t *model.Type, fields content.Fields) ([]byte, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", t.Label)
	for _, f := range t.Fields {
		fmt.Fprintf(&b, "\n# %s\n", describeFields(m, f))
		v := fields[f.Name]
		if v == nil {
			fmt.Fprintf(&b, "# %s:\n", f.Name)
			if f.Translated {
				fmt.Fprintf(&b, "#   %s:\n", m.Default())
			}
			continue
		}
		src, err := yaml.MarshalWithOptions(
			map[string]any{f.Name: v}, yaml.UseLiteralStyleIfMultiline(true), yaml.Indent(2),
		)
		if err != nil {
			return nil, err
		}
		b.Write(src)
	}
	return []byte(b.String()), nil
}

func describeFields(m *model.Model, f *model.Field) string {
	parts := []string{string(f.Kind)}
	if f.IsList() {
		parts = append(parts, "a list")
	}
	if f.Required {
		parts = append(parts, "required")
	}
	if f.Translated {
		parts = append(parts, "one for each of "+strings.Join(m.Tags(), ", "))
	}
	if len(f.Types) > 0 {
		parts = append(parts, "ids of "+strings.Join(f.Types, " or "))
	}
	var options []string
	for _, o := range f.Options {
		options = append(options, o.Value)
	}
	if options != nil {
		parts = append(parts, strings.Join(options, " | "))
	}
	if f.MadeFrom != "" {
		parts = append(parts, "made from "+f.MadeFrom+" if left out")
	}
	if f.Help != "" {
		parts = append(parts, f.Help)
	}
	return strings.Join(parts, "; ")
}

// parseForm reads what form has written, or any YAML or JSON of fields.
func parseForm(src []byte) (map[string]any, error) {
	var v map[string]any
	if err := yaml.Unmarshal(src, &v); err != nil {
		return nil, fmt.Errorf("the form is no YAML: %w", err)
	}
	// Into the types of JSON, which is how it travels.
	enc, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	out := map[string]any{}
	return out, json.Unmarshal(enc, &out)
}

// inEditor has the text edited by a person.
func (a *Commands) inEditor(file string) error {
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		return command.Misusef("set EDITOR to your editor, or give the fields with --file")
	}
	c := exec.Command("sh", "-c", editor+` "$1"`, "sh", file)
	c.Stdin, c.Stdout, c.Stderr = a.In, a.Out, a.Err
	if err := c.Run(); err != nil {
		return fmt.Errorf("the editor (%s) failed: %w", editor, err)
	}
	return nil
}

// readFields reads the fields of an entry: from --set, from a file, from
// standard input (-), or from an editor that begins with what is there.
//
// What --set gives is of the type's kinds: a text stays one though it is a number, and a
// reference may be named as commands name entries.
func (a *Commands) readFields(
	ctx context.Context, s *client.Client, t *model.Type, file string, sets []string, begin func() ([]byte, error),
	into map[string]any,
) (fields map[string]any, kept string, err error) {
	switch {
	case len(sets) > 0:
		for _, set := range sets {
			if err := a.SetField(ctx, s, t, into, set); err != nil {
				return nil, "", err
			}
		}
		return into, "", nil
	case file == "-":
		src, err := io.ReadAll(a.In)
		if err != nil {
			return nil, "", err
		}
		fields, err := parseForm(src)
		return fields, "", err
	case file != "":
		src, err := os.ReadFile(file)
		if err != nil {
			return nil, "", err
		}
		fields, err := parseForm(src)
		return fields, "", err
	}
	src, err := begin()
	if err != nil {
		return nil, "", err
	}
	f, err := os.CreateTemp("", "ubiquon-*.yaml")
	if err != nil {
		return nil, "", err
	}
	defer f.Close()
	if _, err := f.Write(src); err != nil {
		return nil, "", err
	}
	if err := a.inEditor(f.Name()); err != nil {
		return nil, f.Name(), err
	}
	edited, err := os.ReadFile(f.Name())
	if err != nil {
		return nil, f.Name(), err
	}
	if string(edited) == string(src) {
		os.Remove(f.Name())
		return nil, "", errors.New("nothing was changed")
	}
	fields, err = parseForm(edited)
	return fields, f.Name(), err
}

// SetField sets name=value or name.locale=value; a value that is JSON is taken
// as that, any other as text.
func (a *Commands) SetField(
	ctx context.Context, s *client.Client, t *model.Type, fields map[string]any, set string,
) error {
	path, text, ok := strings.Cut(set, "=")
	if !ok || path == "" {
		return command.Misusef("--set %q: write it as name=value, or name.locale=value", set)
	}
	var v any
	if json.Unmarshal([]byte(text), &v) != nil {
		v = text
	}
	if text == "" {
		v = nil
	}
	name, locale, translated := strings.Cut(path, ".")
	if f := t.Field(name); f != nil && v != nil {
		var err error
		if v, err = a.ofKind(ctx, s, f, v, text); err != nil {
			return err
		}
	}
	if !translated {
		fields[name] = v
		return nil
	}
	per, _ := fields[name].(map[string]any)
	if per == nil {
		per = map[string]any{}
	}
	per[locale] = v
	fields[name] = per
	return nil
}

// texts are the kinds whose values are texts, whatever they look like.
var texts = []model.Kind{
	model.Text, model.Slug, model.Prose, model.Choice, model.Date, model.DateTime, model.Reference,
}

// ofKind is a value as a field of its kind takes it.
func (a *Commands) ofKind(ctx context.Context, s *client.Client, f *model.Field, v any, text string) (any, error) {
	if list, is := v.([]any); is && f.IsList() {
		for i := range list {
			one, is := list[i].(string)
			if !is {
				one = PlainJSON(list[i])
			}
			var err error
			if list[i], err = a.ofKind(ctx, s, f, list[i], one); err != nil {
				return nil, err
			}
		}
		return list, nil
	}
	if !slices.Contains(texts, f.Kind) {
		return v, nil
	}
	if one, is := v.(string); is {
		text = one
	}
	if f.Kind == model.Reference && strings.Contains(text, "/") {
		return a.Find(ctx, s, text)
	}
	return text, nil
}

// keptText tells where an edited text is that the service refused.
func keptText(err error, kept, command string) error {
	if err != nil && kept != "" {
		return fmt.Errorf("%w\nYour text is kept in %s; mend it and run: %s --file %s", err, kept, command, kept)
	}
	return err
}

func (a *Commands) entryCreate() *cobra.Command {
	var id, file, message string
	var sets []string
	var publish bool
	c := &cobra.Command{
		Use: "create TYPE", Short: "Write a new entry: in $EDITOR, from a file, or with --set",
		Args: cobra.ExactArgs(1),
		Example: `  ubiquon entry create notice --set title.en="Fog on the ring" --set severity=delay
  ubiquon entry create notice --file notice.yaml --publish`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			m, err := s.Models().Present(cmd.Context())
			if err != nil {
				return err
			}
			t := m.Type(args[0])
			if t == nil {
				return fmt.Errorf("there is no type %q; see: ubiquon model show", args[0])
			}
			fields, kept, err := a.readFields(
				cmd.Context(), s, t, file, sets, func() ([]byte, error) { return form(m, t, nil) }, map[string]any{},
			)
			if err != nil {
				return keptText(err, kept, "ubiquon entry create "+t.Name)
			}
			edit := api.Edit{ID: id, Type: t.Name, Save: fields, Message: message}
			if publish {
				edit.Do = "publish"
			}
			out, err := s.Entries().Edit(cmd.Context(), edit)
			if err != nil {
				return keptText(err, kept, "ubiquon entry create "+t.Name)
			}
			if kept != "" {
				os.Remove(kept)
			}
			return a.Print(out, func(t *command.Table) {
				t.Line(fmt.Sprintf("%s saved as revision %d", out.Entries[0].ID, out.Entries[0].Revision))
				warn(t, out)
			})
		},
	}
	f := c.Flags()
	f.StringVar(&id, "id", "", "its id; one is made if left out")
	formFlags(c, &file, &message, &sets)
	f.BoolVar(&publish, "publish", false, "publish it too")
	return c
}

func formFlags(c *cobra.Command, file, message *string, sets *[]string) {
	c.Flags().StringVar(file, "file", "", "a YAML or JSON file with the fields; - reads standard input")
	c.Flags().StringArrayVar(sets, "set", nil, "name=value or name.locale=value; may be given several times")
	c.Flags().StringVar(message, "message", "", "what to say about this revision")
}

func (a *Commands) entryEdit() *cobra.Command {
	var file, message string
	var sets []string
	c := &cobra.Command{
		Use: "edit ID|TYPE/SLUG", Short: "Edit an entry in $EDITOR, and save a draft", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.named(cmd, args[0])
			if err != nil {
				return err
			}
			e, err := s.Entries().Get(cmd.Context(), id)
			if err != nil {
				return err
			}
			m, err := s.Models().Present(cmd.Context())
			if err != nil {
				return err
			}
			if e.EditAt != "" {
				return fmt.Errorf("entry %s comes from %s; edit it there: %s", id, e.Origin, e.EditAt)
			}
			t := m.Type(e.Type)
			if t == nil {
				return fmt.Errorf("there is no type %q any more", e.Type)
			}
			fields, kept, err := a.readFields(
				cmd.Context(), s, t, file, sets, func() ([]byte, error) { return form(m, t, e.Newest) }, e.Newest,
			)
			if err != nil {
				return keptText(err, kept, "ubiquon entry edit "+id)
			}
			out, err := s.Entries().Edit(
				cmd.Context(),
				api.Edit{ID: id, Type: e.Type, Save: fields, Message: message, IfRevision: e.Revision},
			)
			if err != nil {
				return keptText(a.refused(err), kept, "ubiquon entry edit "+id)
			}
			if kept != "" {
				os.Remove(kept)
			}
			return a.Print(out, func(t *command.Table) {
				t.Line(fmt.Sprintf("%s saved as revision %d", id, out.Entries[0].Revision))
				warn(t, out)
			})
		},
	}
	formFlags(c, &file, &message, &sets)
	return c
}

// warn tells of what is saved, and not delivered as it is.
func warn(t *command.Table, out api.EditOutcome) {
	for _, w := range out.Warnings {
		t.Line("! " + w.Path + ": " + w.Text)
	}
}
