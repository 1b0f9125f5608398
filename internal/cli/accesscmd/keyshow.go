package accesscmd

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
)

func (a *Commands) keyShow() *cobra.Command {
	return &cobra.Command{
		Use: "show KEY", Short: "Show one key, by id or name", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			k, err := s.Keys().Get(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(k, func(t *command.Table) {
				t.Row("id", k.ID)
				t.Row("name", k.Name)
				t.Row("state", keyState(k.Key))
				t.Row("site", command.OrDash(k.Site))
				limit := "any number"
				if k.PerMinute > 0 {
					limit = fmt.Sprint(k.PerMinute)
				}
				t.Row("requests a minute", limit)
				t.Row("made", command.When(&k.Created)+" by "+command.OrDash(k.By))
				t.Row("expires", command.When(k.Expires))
				if k.FormerUntil != nil {
					t.Row("former secret good until", command.When(k.FormerUntil))
				}
				if u := k.Use; u != nil {
					t.Row(
						"last used",
						fmt.Sprintf("%s from %s by %s", command.When(&u.Used), u.Address,
							command.OrDash(t.Short(u.Agent, 40))),
					)
					t.Row("requests", fmt.Sprintf("%d, %s from the cache", u.Requests, share(u.Hits, u.Requests)))
				} else {
					t.Row("last used", "never")
				}
				for i, g := range k.Grants.Texts() {
					t.Row(map[bool]string{true: "may", false: ""}[i == 0], g)
				}
			})
		},
	}
}

func (a *Commands) keyCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check [KEY]", Short: "Show what a key would see: id, name or secret; none for everyone",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
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
			if err := a.Print(seeing, func(t *command.Table) {
				t.Line(seeing.Reader + " sees:")
				t.Row("TYPE", "PUBLISHED", "PREVIEW")
				for i := 0; i+1 < len(seeing.Sights); i += 2 {
					t.Row(seeing.Sights[i].Type, sight(seeing.Sights[i]), sight(seeing.Sights[i+1]))
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
func sight(v api.TypeVisibility) string {
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
