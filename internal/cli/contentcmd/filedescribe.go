package contentcmd

import (
	"fmt"
	"strconv"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"

	"github.com/spf13/cobra"
)

// description is what flags say of a file.
type description struct {
	alt, caption   []string
	credit, focus  string
	tags           []string
	decorative     bool
	alts, captions map[string]any
	region         map[string]any
}

func (d *description) flags(c *cobra.Command) {
	c.Flags().
		StringArrayVar(&d.alt, "alt", nil, "what a picture shows, as in 'The harbour' or nb='Havna'; may be repeated")
	c.Flags().StringArrayVar(&d.caption, "caption", nil, "likewise, what stands below it")
	c.Flags().StringVar(&d.credit, "credit", "", "who made it")
	c.Flags().StringSliceVar(&d.tags, "tag", nil, "tags, in place of those that it has")
	c.Flags().
		StringVar(&d.focus, "focus", "", "what no crop leaves out: x,y,width,height in percent, as in 40,20,30,30")
	c.Flags().BoolVar(&d.decorative, "decorative", false, "it says nothing, and needs no description")
}

func (d *description) isGiven() bool {
	return len(d.alt)+len(d.caption)+len(d.tags) > 0 || d.credit != "" || d.focus != "" || d.decorative
}

// check reads the flags. A text without a locale is for the default one.
func (d *description) check() error {
	perLocale := func(in []string) map[string]any {
		out := map[string]any{}
		for _, text := range in {
			if tag, rest, ok := strings.Cut(text, "="); ok && len(tag) <= 11 && !strings.Contains(tag, " ") {
				out[tag] = rest
			} else {
				out[""] = text
			}
		}
		return out
	}
	d.alts, d.captions = perLocale(d.alt), perLocale(d.caption)
	if d.focus == "" {
		return nil
	}
	parts := strings.Split(d.focus, ",")
	d.region = map[string]any{}
	for i, name := range model.FocusFields {
		if len(parts) != len(model.FocusFields) {
			return command.Misusef("--focus %s: give x,y,width,height in percent, as in 40,20,30,30", d.focus)
		}
		n, err := strconv.ParseFloat(strings.TrimSpace(parts[i]), 64)
		if err != nil {
			return command.Misusef("--focus %s: %q is no number", d.focus, parts[i])
		}
		d.region[name] = n / 100
	}
	return nil
}

// describe saves what the flags say of a file.
func (a *Commands) describe(
	cmd *cobra.Command,
	s *client.Client,
	id string,
	d *description,
	publish bool,
) (api.File, error) {
	ctx := cmd.Context()
	held, err := s.Entries().Get(ctx, id)
	if err != nil {
		return api.File{}, err
	}
	if held.Type != model.FileType {
		return api.File{}, fmt.Errorf("%s is a %s, not a file", id, held.Type)
	}
	m, err := s.Models().Present(ctx)
	if err != nil {
		return api.File{}, err
	}
	fields := held.Newest
	for name, texts := range map[string]map[string]any{"alt": d.alts, "caption": d.captions} {
		per, _ := fields[name].(map[string]any)
		if per == nil {
			per = map[string]any{}
		}
		for tag, text := range texts {
			if tag == "" {
				tag = m.Default()
			}
			per[tag] = text
		}
		if len(per) > 0 {
			fields[name] = per
		}
	}
	if d.credit != "" {
		fields["credit"] = d.credit
	}
	if len(d.tags) > 0 {
		tags := make([]any, len(d.tags))
		for i, tag := range d.tags {
			tags[i] = tag
		}
		fields["tags"] = tags
	}
	if d.region != nil {
		fields["focus"] = d.region
	}
	if cmd.Flags().Changed("decorative") {
		fields["decorative"] = d.decorative
	}
	e := api.Edit{ID: id, Type: model.FileType, Save: content.Fields(fields), IfRevision: held.Revision}
	if publish {
		e.Do = "publish"
	}
	if _, err := s.Entries().Edit(ctx, e); err != nil {
		return api.File{}, err
	}
	f, err := s.Files().Get(ctx, id)
	return f.File, err
}

func (a *Commands) fileDescribe() *cobra.Command {
	var d description
	var draft bool
	c := &cobra.Command{
		Use: "describe ID", Short: "Say what a file shows, and what no crop leaves out", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := d.check(); err != nil {
				return err
			}
			if !d.isGiven() && !cmd.Flags().Changed("decorative") {
				return command.Misusef("say what: --alt, --caption, --credit, --tag, --focus or --decorative")
			}
			held, err := s.Files().Get(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			f, err := a.describe(cmd, s, args[0], &d, held.Published && !draft)
			if err != nil {
				return err
			}
			return a.Print(f, func(t *command.Table) { drawFile(t, f) })
		},
	}
	d.flags(c)
	c.Flags().BoolVar(&draft, "draft", false, "save a draft; else a published file is published again at once")
	return c
}
