package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

func (a *app) keyCommand() *cobra.Command {
	var grants []string
	var site string
	var days int
	create := &cobra.Command{
		Use: "create NAME", Short: "Make a key; its secret is shown once", Args: cobra.ExactArgs(1),
		Example: `  ubiquon key create website --grant "read published *"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			if len(grants) == 0 {
				return misusef(`a key needs at least one grant, as in --grant "read published notice"`)
			}
			var expires *time.Time
			if days > 0 {
				at := time.Now().UTC().AddDate(0, 0, days)
				expires = &at
			}
			key, secret, err := s.CreateKey(cmd.Context(), args[0], grants, site, expires)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"key": key, "secret": secret}, func(t *table) {
				t.row("id", key.ID)
				t.row("secret", secret)
				t.line("The secret is shown only now.")
			})
		},
	}
	create.Flags().StringArrayVar(&grants, "grant", nil, "verb, edition and type; may be given several times")
	create.Flags().StringVar(&site, "site", "", "the site that reads with it")
	create.Flags().IntVar(&days, "days", 0, "how many days it is good for; 0 for ever")

	list := &cobra.Command{
		Use: "list", Short: "List keys", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			keys, err := s.Keys(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": keys}, func(t *table) {
				t.row("ID", "NAME", "SITE", "EXPIRES", "GRANTS")
				for _, k := range keys {
					var texts []string
					for _, g := range k.Grants {
						texts = append(texts, g.String())
					}
					t.row(k.ID, short(k.Name, 20), orDash(k.Site), when(k.Expires), short(strings.Join(texts, ", "), 44))
				}
			})
		},
	}
	revoke := &cobra.Command{
		Use: "revoke ID", Short: "End a key, at once", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			if err := s.RevokeKey(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(map[string]string{"revoked": args[0]}, func(t *table) { t.line(fmt.Sprintf("key %s is revoked", args[0])) })
		},
	}
	return noun("key", "Make, list and revoke keys", create, list, revoke)
}
