package accesscmd

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/access"
)

// OpenCommand makes open or close.
func (a *Commands) OpenCommand(name string) *cobra.Command {
	var verb, edition string
	var locales []string
	var yes bool
	opening := name == "open"
	c := &cobra.Command{
		Use: name + " TYPE…", Args: cobra.MinimumNArgs(1),
		Short: map[bool]string{true: "Open types to everyone, without a key", false: "Close types that are open " +
			"to everyone"}[opening],
		Example: map[bool]string{
			true:  "  ubiquon open notice route pier\n  ubiquon open remark --verb submit",
			false: "  ubiquon close notice",
		}[opening],
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if verb == access.Submit && !cmd.Flags().Changed("edition") {
				edition = "preview"
			}
			var grants access.Grants
			for _, t := range args {
				if t == "all" {
					t = access.Any
				}
				grants = append(grants, access.Grant{Verb: verb, Edition: edition, Type: t, Locales: locales})
			}
			var open access.Grants
			if opening {
				if !yes && edition != "published" && verb == access.Read {
					if !a.Confirm(
						fmt.Sprintf("Everyone could read drafts: %s. Go on?", strings.Join(grants.Texts(), ", ")),
					) {
						return errors.New("nothing was done; answer y, or give --yes")
					}
				}
				open, err = s.Keys().ChangePublicGrants(cmd.Context(), grants.Texts(), nil)
			} else {
				open, err = s.Keys().ChangePublicGrants(cmd.Context(), nil, grants.Texts())
			}
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"open": open}, func(t *command.Table) {
				if len(open) == 0 {
					t.Line("Nothing is open to everyone.")
				}
				for i, g := range open.Texts() {
					t.Row(map[bool]string{true: "everyone may", false: ""}[i == 0], g)
				}
			})
		},
	}
	f := c.Flags()
	f.StringVar(&verb, "verb", "read", "read or submit")
	f.StringVar(&edition, "edition", "published", "published or preview (submit: preview)")
	f.StringSliceVar(&locales, "locale", nil, "these locales only")
	if opening {
		f.BoolVar(&yes, "yes", false, "do not ask")
	}
	return c
}
