package accesscmd

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
)

// KeyCommand returns the command key.
func (a *Commands) KeyCommand() *cobra.Command {
	return command.Noun(
		"key", "Make, look at, rotate and revoke keys", a.keyCreate(), a.keyList(), a.keyShow(), a.keyCheck(),
		a.keyGrant(), a.keyExtend(), a.keyRotate(), a.keyRevoke(), a.keyRefused(),
	)
}

func (a *Commands) keyCreate() *cobra.Command {
	var k api.NewKey
	var locales []string
	var days int
	var env bool
	var edition string
	c := &cobra.Command{
		Use: "create NAME", Short: "Create a key; its secret is shown once", Args: cobra.ExactArgs(1),
		Example: `  ubiquon key create website --grant "read published *"
  ubiquon key create preview --grant "read preview *" --days 30 --env >> .env
  ubiquon key create norway --grant "read published notice" --locale nb`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if len(k.Grants) == 0 {
				return command.Misusef(`a key needs at least one grant, as in --grant "read published notice"`)
			}
			grants, err := access.ParseGrants(k.Grants)
			if err != nil {
				return err
			}
			for i := range grants {
				if len(grants[i].Locales) == 0 {
					grants[i].Locales = locales
				}
			}
			k.Name, k.Grants = args[0], grants.Texts()
			if days > 0 {
				at := time.Now().UTC().AddDate(0, 0, days)
				k.Expires = &at
			}
			key, secret, err := s.Keys().Create(cmd.Context(), k)
			if err != nil {
				return err
			}
			if env {
				if !cmd.Flags().Changed("edition") &&
					!(access.Rights{Own: grants}).AllowsAny(access.Read, "published") {
					edition = "preview"
				}
				st, err := s.Status(cmd.Context())
				if err != nil {
					return err
				}
				fmt.Fprintf(
					a.Out, "# %s, made %s\nUBIQUON_ADDRESS=%s/content/%s/%s\nUBIQUON_KEY=%s\n", key.Name,
					time.Now().UTC().Format("2006-01-02"), strings.TrimSuffix(s.Address, "/"), st.Environment,
					edition, secret,
				)
				return nil
			}
			return a.Print(map[string]any{"key": key, "secret": secret}, func(t *command.Table) {
				t.Row("id", key.ID)
				t.Row("secret", secret)
				t.Line("The secret is shown only now. See what the key would see: ubiquon key check " + key.ID)
			})
		},
	}
	f := c.Flags()
	f.StringArrayVar(&k.Grants, "grant", nil, "verb, edition and type; may be given several times")
	f.StringSliceVar(&locales, "locale", nil, "limit the grants to these locales")
	f.StringVar(&k.Site, "site", "", "the site that reads with it")
	f.IntVar(&k.PerMinute, "per-minute", 0, "how many requests a minute each node answers; 0 for any number")
	f.IntVar(&days, "days", 0, "how many days it is good for; 0 for ever")
	f.BoolVar(&env, "env", false, "print the lines that a front end's environment file needs, and nothing else")
	f.StringVar(&edition, "edition", "published", "with --env: the edition that the front end reads")
	return c
}

func (a *Commands) keyList() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "list", Short: "List keys, what they are used for, and what is open to everyone", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			keys, open, err := s.Keys().List(cmd.Context())
			if err != nil {
				return err
			}
			shown := []api.KeyInfo{}
			for _, k := range keys {
				if all || k.Revoked == nil {
					shown = append(shown, k)
				}
			}
			return a.Print(map[string]any{"open": open, "items": shown}, func(t *command.Table) {
				t.Row("ID", "NAME", "STATE", "LAST USED", "REQUESTS", "HITS", "GRANTS")
				t.Row("–", "everyone", "open", "", "", "",
					command.OrDash(t.Short(strings.Join(open.Texts(), ", "), 26)))
				for _, k := range shown {
					used, requests, hits := "never", "0", "–"
					if k.Use != nil {
						used, requests, hits = command.When(
							&k.Use.Used,
						), fmt.Sprint(
							k.Use.Requests,
						), share(
							k.Use.Hits, k.Use.Requests,
						)
					}
					t.Row(
						k.ID, t.Short(k.Name, 16), keyState(k.Key), used, requests, hits,
						t.Short(strings.Join(k.Grants.Texts(), ", "), 26),
					)
				}
			})
		},
	}
	c.Flags().BoolVar(&all, "all", false, "revoked ones too")
	return c
}

func share(part, whole int64) string {
	if whole == 0 {
		return "–"
	}
	return fmt.Sprintf("%.0f %%", 100*float64(part)/float64(whole))
}

func keyState(k *access.Key) string {
	switch {
	case k.Revoked != nil:
		return "revoked"
	case k.Expires != nil && !time.Now().Before(*k.Expires):
		return "expired"
	case k.Expires != nil:
		return "until " + k.Expires.Local().Format("2006-01-02")
	}
	return "good"
}

// onKey makes a command that does something to one key.
func (a *Commands) onKey(
	use, short string, args cobra.PositionalArgs,
	do func(*cobra.Command, *client.Client, []string) (access.Key, string, error),
) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: args, RunE: func(cmd *cobra.Command, args []string) error {
		s, err := a.Service()
		if err != nil {
			return err
		}
		k, says, err := do(cmd, s, args)
		if err != nil {
			return err
		}
		return a.Print(k, func(t *command.Table) { t.Line(says) })
	}}
}

func (a *Commands) keyGrant() *cobra.Command {
	var take []string
	c := a.onKey(
		"grant KEY [GRANT…]",
		"Add grants to a key, or take some away",
		cobra.MinimumNArgs(1),
		func(cmd *cobra.Command, s *client.Client, args []string) (access.Key, string, error) {
			if len(args) == 1 && len(take) == 0 {
				return access.Key{}, "", command.Misusef(
					`name a grant, as in: ubiquon key grant %s "read published notice"`, args[0],
				)
			}
			k, err := s.Keys().Grant(cmd.Context(), args[0], args[1:], take)
			return k, fmt.Sprintf("key %s may: %s", k.Name, strings.Join(k.Grants.Texts(), ", ")), err
		},
	)
	c.Flags().StringArrayVar(&take, "take", nil, "a grant to take away; may be given several times")
	return c
}

func (a *Commands) keyExtend() *cobra.Command {
	var days int
	c := a.onKey(
		"extend KEY",
		"Have a key expire later, or never",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, s *client.Client, args []string) (access.Key, string, error) {
			k, err := s.Keys().Extend(cmd.Context(), args[0], days)
			return k, fmt.Sprintf(
				"key %s is good %s", k.Name,
				map[bool]string{true: "for ever", false: "until " + command.When(k.Expires)}[k.Expires == nil],
			), err
		},
	)
	c.Flags().IntVar(&days, "days", 90, "for so many days from now; 0 for ever")
	return c
}

func (a *Commands) keyRotate() *cobra.Command {
	var overlap time.Duration
	c := &cobra.Command{
		Use: "rotate KEY", Short: "Rotate a key: a new secret; the previous one stays valid for a while",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			k, secret, err := s.Keys().Rotate(cmd.Context(), args[0], overlap)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"key": k, "secret": secret}, func(t *command.Table) {
				t.Row("id", k.ID)
				t.Row("secret", secret)
				t.Line("The secret is shown only now. The one before is good until " + command.When(k.FormerUntil) +
					".")
			})
		},
	}
	c.Flags().DurationVar(&overlap, "overlap", 24*time.Hour, "how long the secret before is good still")
	return c
}

func (a *Commands) keyRevoke() *cobra.Command {
	return a.onKey(
		"revoke KEY",
		"End a key, at once and on all nodes",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, s *client.Client, args []string) (access.Key, string, error) {
			k, err := s.Keys().Revoke(cmd.Context(), args[0])
			return k, fmt.Sprintf("key %s (%s) is revoked", k.Name, k.ID), err
		},
	)
}

func (a *Commands) keyRefused() *cobra.Command {
	return &cobra.Command{
		Use: "refused", Short: "List reads that this node refused lately, for a missing grant or an invalid key",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Keys().Refusals(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("AT", "READER", "FROM", "REQUEST", "MISSING")
				for _, r := range all {
					missing := r.Grant
					if missing == "" {
						missing = r.Detail
					}
					t.Row(
						command.When(&r.At), t.Short(command.OrDash(r.Reader), 14), r.Address,
						t.Short(strings.Replace(r.Request, "/content/", "", 1), 32), t.Short(missing, 26),
					)
				}
			})
		},
	}
}
