package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/diagnose"
)

func (a *app) keyShow() *cobra.Command {
	return &cobra.Command{
		Use: "show KEY", Short: "Show one key, by id or name", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			k, err := s.Keys().Get(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(k, func(t *table) {
				t.row("id", k.ID)
				t.row("name", k.Name)
				t.row("state", keyState(k.Key))
				t.row("site", orDash(k.Site))
				limit := "any number"
				if k.PerMinute > 0 {
					limit = fmt.Sprint(k.PerMinute)
				}
				t.row("requests a minute", limit)
				t.row("made", when(&k.Created)+" by "+orDash(k.By))
				t.row("expires", when(k.Expires))
				if k.FormerUntil != nil {
					t.row("former secret good until", when(k.FormerUntil))
				}
				if u := k.Use; u != nil {
					t.row(
						"last used",
						fmt.Sprintf("%s from %s by %s", when(&u.Used), u.Address, orDash(t.short(u.Agent, 40))),
					)
					t.row("requests", fmt.Sprintf("%d, %s from the cache", u.Requests, share(u.Hits, u.Requests)))
				} else {
					t.row("last used", "never")
				}
				for i, g := range k.Grants.Texts() {
					t.row(map[bool]string{true: "may", false: ""}[i == 0], g)
				}
			})
		},
	}
}

func (a *app) keyCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check [KEY]", Short: "Say what a key would see: id, name or secret; none for everyone",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			seeing, err := s.Keys().Check(cmd.Context(), name)
			if err != nil {
				return err
			}
			if err := a.print(seeing, func(t *table) {
				t.line(seeing.Reader + " sees:")
				t.row("TYPE", "PUBLISHED", "PREVIEW")
				for i := 0; i+1 < len(seeing.Sights); i += 2 {
					t.row(seeing.Sights[i].Type, sight(seeing.Sights[i]), sight(seeing.Sights[i+1]))
				}
			}); err != nil {
				return err
			}
			if seeing.Problem != "" {
				return fmt.Errorf("with this key nothing is answered: %s", seeing.Problem)
			}
			return nil
		},
	}
}

// sight says what is seen of a type in an edition.
func sight(v diagnose.TypeVisibility) string {
	if v.Through == "" {
		return "–"
	}
	s := fmt.Sprintf(
		"%d entries, %s", v.Entries,
		map[string]string{"open": "open to everyone", "grant": "by a grant", "both": "by a grant, and open"}[v.Through],
	)
	if v.Locales != nil {
		s += ", in " + strings.Join(v.Locales, ", ")
	}
	return s
}
