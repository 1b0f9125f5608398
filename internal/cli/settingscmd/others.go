package settingscmd

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
)

// OriginVerbs are the commands of the configuration of origins.
func (a *Commands) OriginVerbs() []*cobra.Command {
	test := &cobra.Command{
		Use: "test ORIGIN", Short: "Read the first page of each type of an origin, as a test", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().TestOrigin(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) { drawAnswers(t, all) })
		},
	}
	out := []*cobra.Command{test}
	for _, c := range a.verbs("origin", "an origin") {
		if verb, _, _ := strings.Cut(c.Use, " "); verb == "enable" || verb == "disable" {
			continue // an origin is removed, and retired
		} else if verb == "show" {
			c.Use = "config ORIGIN"
		}
		out = append(out, c)
	}
	return out
}

// Target returns the command target.
func (a *Commands) Target() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the names for people who are told something", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().Targets(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("TARGET", "MAIL", "DESCRIPTION")
				for _, one := range all {
					spec := plain(one.Spec)
					t.Row(one.Name, fmt.Sprint(spec["mail"]), command.OrDash(fmt.Sprint(spec["description"])))
				}
			})
		},
	}
	return command.Noun("target", "Name people who are told something", append([]*cobra.Command{list},
		a.verbs("target", "a target")...)...)
}

// Mail returns the command mail.
func (a *Commands) Mail() *cobra.Command {
	var file string
	show := &cobra.Command{
		Use: "show", Short: "Print the mail server", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			saved, err := s.Settings().Get(cmd.Context(), "mail", "mail")
			if err != nil {
				return err
			}
			return a.Print(saved, func(t *command.Table) { drawSetting(t, saved) })
		},
	}
	set := &cobra.Command{
		Use: "set", Short: "Say through which server mail is sent", Args: cobra.NoArgs,
		Example: "  echo '{server: mail.skerry.example:587, from: line@skerry.example, user: line, " +
			"password: secret:mail}' |\n" +
			"    ubiquon mail set --file -",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			src, err := a.read(file)
			if err != nil {
				return err
			}
			saved, err := s.Settings().Put(cmd.Context(), "mail", "mail", src, 0, false)
			if err != nil {
				return err
			}
			return a.Print(saved, func(t *command.Table) { drawSetting(t, saved) })
		},
	}
	set.Flags().StringVar(&file, "file", "", "the file; - for standard input")
	_ = set.MarkFlagRequired("file") // there is such a flag
	test := &cobra.Command{
		Use: "test TO", Short: "Send a test message to an address", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := s.Settings().TestMail(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.Print(map[string]string{"sent": args[0]}, func(t *command.Table) {
				t.Line("✓ The server took the message to " + args[0] + ".")
			})
		},
	}
	return command.Noun("mail", "Set up mail, and see what was sent", show, set, test, a.mailSent())
}

func (a *Commands) mailSent() *cobra.Command {
	var f api.NotificationFilter
	c := &cobra.Command{
		Use: "sent", Short: "List what accounts were told by mail, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().Notifications(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("AT", "TO", "SUBJECT", "STATE", "ERROR")
				for _, n := range all {
					t.Row(command.When(&n.At), n.Email, t.Short(n.Subject, 44), n.State, t.Cut(n.Error, 20))
				}
			})
		},
	}
	c.Flags().StringVar(&f.State, "state", "", "only these: waiting, sent or failed")
	c.Flags().IntVar(&f.Limit, "limit", 20, "how many at most")
	return c
}

// Secret returns the command secret.
func (a *Commands) Secret() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the names of the secrets, and what refers to them", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().Secrets(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("SECRET", "SET", "BY", "USED BY")
				for _, one := range all {
					t.Row(one.Name, command.When(&one.At), one.By, command.OrDash(strings.Join(one.UsedBy, ", ")))
				}
			})
		},
	}
	set := &cobra.Command{
		Use: "set SECRET", Short: "Keep a value under a name, encrypted", Args: cobra.ExactArgs(1),
		Long: `Reads the value from standard input, up to the end of the line, and keeps it
encrypted. It is written secret:NAME where one is needed, and never shown again.`,
		Example: "  printf %s \"$PASSWORD\" | ubiquon secret set mail",
		RunE: func(cmd *cobra.Command, args []string) error {
			value, err := bufio.NewReader(io.LimitReader(a.In, 1<<16)).ReadString('\n')
			if err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			value = strings.TrimRight(value, "\r\n")
			if value == "" {
				return command.Misusef(
					"send the value on standard input, as in: printf %%s \"$VALUE\" | ubiquon secret set %s",
					args[0],
				)
			}
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := s.Settings().SetSecret(cmd.Context(), args[0], value); err != nil {
				return err
			}
			return a.Print(map[string]string{"set": args[0]}, func(t *command.Table) {
				t.Line("✓ Kept. Write it as secret:" + args[0] + ".")
			})
		},
	}
	remove := &cobra.Command{
		Use: "remove SECRET", Short: "Forget a secret that nothing refers to", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := s.Settings().RemoveSecret(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.Print(map[string]string{"removed": args[0]}, func(t *command.Table) { t.Line("✓ Forgotten.") })
		},
	}
	return command.Noun("secret", "Keep values encrypted, for calls in and out", list, set, remove)
}

// Diff returns the command diff, Apply the command apply.
func (a *Commands) Diff() *cobra.Command  { return a.folder(false) }
func (a *Commands) Apply() *cobra.Command { return a.folder(true) }

func (a *Commands) folder(apply bool) *cobra.Command {
	p := api.ConfigurationPlan{Apply: apply}
	use, short := "diff", "Say how the files of a folder differ from model and settings"
	if apply {
		use, short = "apply", "Bring model and settings up to date with the files of a folder"
	}
	c := &cobra.Command{
		Use: use + " DIR", Short: short, Args: cobra.ExactArgs(1),
		Long: short + `: model, sites, rules, origins,
caches downstream, mail, targets, CORS. All of it is checked together, and changed in
one transaction, or nothing is.`,
		Example: "  ubiquon export config\n  ubiquon " + use + " config --only rule,site",
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := command.ModelFiles(args[0])
			if err != nil {
				return err
			}
			p.Files = map[string]string{}
			for name, src := range files {
				if rel, err := filepath.Rel(args[0], name); err == nil {
					name = rel
				}
				p.Files[name] = string(src)
			}
			s, err := a.Service()
			if err != nil {
				return err
			}
			out, err := s.Settings().Plan(cmd.Context(), p)
			if err != nil {
				return err
			}
			return a.Print(out, func(t *command.Table) { drawPlan(t, &out) })
		},
	}
	f := c.Flags()
	f.StringSliceVar(
		&p.Only,
		"only",
		nil,
		"only these kinds: model, rule, site, origin, downstream, target, mail, cors",
	)
	f.BoolVar(&p.Prune, "prune", false, "remove what the files do not have, of the kinds that they have")
	if apply {
		f.BoolVar(&p.AllowLoss, "allow-loss", false, "apply a model that loses content")
	}
	return c
}

func drawPlan(t *command.Table, out *api.ConfigurationOutcome) {
	for _, c := range out.Model {
		t.Row("model", string(c.Severity), c.Where, c.Text)
	}
	signs := map[string]string{"add": "+", "edit": "~", "remove": "-"}
	for _, c := range out.Changes {
		t.Line(fmt.Sprintf("%s %s %s", signs[c.Action], c.Kind, c.Name))
		drawLines(t, c.Before, c.After)
	}
	for _, w := range out.Warnings {
		t.Line("! " + w)
	}
	switch {
	case len(out.Model) == 0 && len(out.Changes) == 0:
		t.Line("✓ Nothing differs.")
	case out.Applied:
		t.Line("✓ Applied.")
	default:
		t.Line("→ ubiquon apply brings this about.")
	}
}

// drawLines draws what differs between two texts, line by line.
func drawLines(t *command.Table, before, after string) {
	was, is := strings.Split(strings.TrimSpace(before), "\n"), strings.Split(strings.TrimSpace(after), "\n")
	for _, line := range was {
		if line != "" && !slices.Contains(is, line) {
			t.Line("    - " + line)
		}
	}
	for _, line := range is {
		if line != "" && !slices.Contains(was, line) {
			t.Line("    + " + line)
		}
	}
}

// Export returns the command export.
func (a *Commands) Export() *cobra.Command {
	return &cobra.Command{
		Use: "export DIR", Short: "Write model and settings as the files of a folder", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			files, err := s.Settings().Export(cmd.Context())
			if err != nil {
				return err
			}
			names := slices.Sorted(maps.Keys(files))
			for _, name := range names {
				file := filepath.Join(args[0], filepath.FromSlash(name))
				if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
					return err
				}
				if err := os.WriteFile(file, []byte(files[name]), 0o644); err != nil {
					return err
				}
			}
			return a.Print(map[string]any{"files": names}, func(t *command.Table) {
				for _, name := range names {
					t.Line("✓ " + filepath.Join(args[0], name))
				}
			})
		},
	}
}
