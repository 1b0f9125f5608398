package contentcmd

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/strictyaml"
)

// Locale returns the command locale.
func (a *Commands) Locale() *cobra.Command {
	add, change, retire, restore := a.localeEdits()
	return command.Noun(
		"locale", "Manage locales, and see what is translated", a.localeList(), add, change, retire, restore,
		a.localeOrder(), a.localeCoverage(),
	)
}

func (a *Commands) localeList() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the locales, the default first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			m, err := s.Models().Present(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": m.Locales}, func(t *command.Table) {
				t.Row("TAG", "NAME", "FALLS BACK TO", "")
				for _, l := range m.Locales {
					note := ""
					switch {
					case l.Retired:
						note = "retired"
					case l.Tag == m.Default():
						note = "default"
					}
					t.Row(l.Tag, command.OrDash(l.Name), command.OrDash(strings.Join(l.Fallback, ", ")), note)
				}
			})
		},
	}
	return list
}

// localeEdits makes the commands that change one locale.
func (a *Commands) localeEdits() (add, change, retire, restore *cobra.Command) {
	var name string
	var fallback []string
	named := func(use, do, short string) *cobra.Command {
		return &cobra.Command{
			Use:   use,
			Short: short,
			Args:  cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				tag, spoken, err := findLocale(args[0])
				if err != nil {
					return err
				}
				e := api.LocaleEdit{Do: do, Tag: tag, Name: name, Fallback: fallback}
				if e.Name == "" {
					e.Name = spoken
				}
				return a.editLocales(
					cmd, e,
					tag+" "+map[string]string{
						"add": "added", "change": "changed", "retire": "retired",
						"restore": "brought back",
					}[do],
				)
			},
		}
	}
	add = named("add TAG|NAME", "add", "Add a locale, by its tag or its English name")
	change = named("change TAG", "change", "Change a locale's name and fallbacks")
	for _, c := range []*cobra.Command{add, change} {
		c.Flags().StringVar(&name, "name", "", "what people call it")
		c.Flags().StringSliceVar(&fallback, "fallback", nil, "the locales to look in for what it lacks, in order")
	}
	retire = named("retire TAG", "retire", "Deliver a locale no more; what was written in it is kept")
	restore = named("restore TAG", "restore", "Bring a retired locale back")
	return add, change, retire, restore
}

func (a *Commands) localeOrder() *cobra.Command {
	order := &cobra.Command{
		Use:   "order TAG…",
		Short: "Order the locales; the first is the default",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.editLocales(cmd, api.LocaleEdit{Do: "order", Order: args}, "ordered")
		},
	}
	return order
}

func (a *Commands) localeCoverage() *cobra.Command {
	var typ string
	coverage := &cobra.Command{
		Use: "coverage", Short: "Show how much of each type is translated", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			items, err := s.Entries().Coverage(cmd.Context())
			if err != nil {
				return err
			}
			var shown []api.Coverage
			for _, c := range items {
				if typ == "" || c.Type == typ {
					shown = append(shown, c)
				}
			}
			return a.Print(map[string]any{"items": shown}, func(t *command.Table) {
				t.Row("TYPE", "LOCALE", "TRANSLATED", "PARTLY", "FILLED IN", "MISSING", "")
				for _, c := range shown {
					t.Row(c.Type, c.Locale, c.Translated, c.Partly, c.FilledIn, c.Missing, bar(c))
				}
				t.Line("")
				t.Line("See which: ubiquon entry list --type TYPE --missing LOCALE")
			})
		},
	}
	coverage.Flags().StringVar(&typ, "type", "", "only this type")
	return coverage
}

// bar draws a coverage as twenty characters.
func bar(c api.Coverage) string {
	all := c.Translated + c.Partly + c.FilledIn + c.Missing
	if all == 0 {
		return ""
	}
	const width = 20
	var b strings.Builder
	so, drawn := 0, 0
	for _, piece := range []struct {
		n    int
		sign string
	}{{c.Translated, "█"}, {c.Partly, "▓"}, {c.FilledIn, "░"}, {c.Missing, "·"}} {
		so += piece.n
		to := (width*so + all/2) / all
		b.WriteString(strings.Repeat(piece.sign, to-drawn))
		drawn = to
	}
	return b.String()
}

func (a *Commands) editLocales(cmd *cobra.Command, e api.LocaleEdit, done string) error {
	s, err := a.Service()
	if err != nil {
		return err
	}
	var last api.ConversionProgress
	if err := s.Models().EditLocales(cmd.Context(), e, a.tellConversion(&last)); err != nil {
		return err
	}
	return a.Print(last, func(t *command.Table) { t.Line(fmt.Sprintf("%s; model version %d", done, last.Version)) })
}

// findLocale returns the tag of a locale that is named by tag or by its English
// name, and the name that its speakers give it.
func findLocale(text string) (tag, name string, err error) {
	if t, err := language.Parse(text); err == nil {
		return text, display.Self.Name(t), nil
	}
	var names []string
	for _, t := range display.Supported.Tags() {
		english := display.English.Tags().Name(t)
		if strings.EqualFold(english, text) {
			return t.String(), display.Self.Name(t), nil
		}
		names = append(names, english)
	}
	return "", "", fmt.Errorf(
		"%q is neither a BCP 47 tag nor the English name of a language%s", text, strictyaml.DidYouMean(text, names),
	)
}
