package contentcmd

import (
	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
)

func (a *Commands) entryPreview() *cobra.Command {
	var o api.PreviewOptions
	c := &cobra.Command{
		Use: "preview ID|TYPE/SLUG", Short: "Print the addresses at which sites show an entry in preview to whoever has " +
			"the link", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, id, err := a.named(cmd, args[0])
			if err != nil {
				return err
			}
			link, err := s.Keys().Preview(cmd.Context(), id, o)
			if err != nil {
				return err
			}
			return a.Print(link, func(t *command.Table) {
				for _, one := range link.Addresses {
					t.Row(one.Site, one.Address)
				}
				if len(link.Addresses) == 0 {
					t.Line(
						"No site shows a preview of it: it has no path, or no site has a preview address. The token:",
					)
					t.Line(link.Token)
				}
				t.Line(
					"Good until " + command.When(&link.Expires) + ". End it before with: ubiquon preview revoke " +
						link.ID,
				)
			})
		},
	}
	c.Flags().StringVar(&o.Locale, "locale", "", "the locale whose path is shown (default the first)")
	o.Minutes = c.Flags().Int("minutes", 60, "how long the link is good, a week at most")
	c.Flags().BoolVar(&o.WaysBack, "ways-back", false, "let the link read what refers to the entry, too")
	return c
}

// PreviewCommand manages the preview links that were made.
func (a *Commands) PreviewCommand() *cobra.Command {
	var entry string
	list := &cobra.Command{
		Use: "list", Short: "List the preview links that have not expired", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if entry != "" {
				if entry, err = a.Find(cmd.Context(), s, entry); err != nil {
					return err
				}
			}
			all, err := s.Keys().Previews(cmd.Context(), entry)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("ID", "ENTRY", "MADE BY", "EXPIRES", "LAST USED", "STATE")
				for _, l := range all {
					state := "good"
					if l.Revoked != nil {
						state = "revoked"
					}
					t.Row(l.ID, t.Short(l.Title, 32), t.Short(l.By, 26), command.When(&l.Expires),
						command.When(l.Used), state)
				}
				if len(all) == 0 {
					t.Line("There are none. Make one with: ubiquon entry preview TYPE/SLUG")
				}
			})
		},
	}
	list.Flags().StringVar(&entry, "entry", "", "those of one entry: its id, or TYPE/SLUG")
	revoke := &cobra.Command{
		Use: "revoke ID", Short: "End a preview link at once", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := s.Keys().RevokePreview(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.Print(
				map[string]any{"revoked": args[0]},
				func(t *command.Table) { t.Line("preview link " + args[0] + " is revoked") },
			)
		},
	}
	return command.Noun("preview", "List and revoke preview links", list, revoke)
}
