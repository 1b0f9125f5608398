package accesscmd

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/access"
)

// Account returns the command account.
func (a *Commands) Account() *cobra.Command {
	return command.Noun("account", "Create and change accounts", a.accountCreate(),
		a.accountList(), a.accountChange(), a.accountLink())
}

func (a *Commands) accountCreate() *cobra.Command {
	var name, role string
	create := &cobra.Command{
		Use: "create EMAIL", Short: "Create an account; prints a link at which its owner sets a password",
		Args:    cobra.ExactArgs(1),
		Example: "  ubiquon account create duty@skerry.example --role approver",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			made, link, err := s.Accounts().Create(cmd.Context(), args[0], name, role, "")
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"account": made, "link": link}, func(t *command.Table) {
				t.Row("account", made.Email)
				t.Row("role", made.Role)
				t.Row("link", link)
				t.Line("The link is good once, for a week.")
			})
		},
	}
	create.Flags().StringVar(&name, "name", "", "what people are to read")
	create.Flags().StringVar(&role, "role", "reader", "reader, editor, approver or admin")
	return create
}

func (a *Commands) accountList() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List accounts", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Accounts().List(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("E-MAIL", "NAME", "ROLE", "STATE", "LAST SIGNED IN")
				for _, one := range all {
					state := "good"
					if one.Disabled != nil {
						state = "disabled"
					} else if !one.HasPassword {
						state = "no password yet"
					}
					t.Row(one.Email, one.Name, one.Role, state, command.When(one.SignedIn))
				}
			})
		},
	}
	return list
}

func (a *Commands) accountChange() *cobra.Command {
	var newRole, newName string
	var disable, enable bool
	change := &cobra.Command{
		Use: "change EMAIL", Short: "Change the role or name of an account, disable or enable it",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			var form api.AccountChange
			if newRole != "" {
				form.Role = new(access.Role(newRole))
			}
			if newName != "" {
				form.Name = &newName
			}
			if disable != enable {
				form.Disabled = &disable
			}
			if form == (api.AccountChange{}) {
				return command.Misusef("say what to change: --role, --name, --disable or --enable")
			}
			one, err := s.Accounts().Change(cmd.Context(), args[0], form)
			if err != nil {
				return err
			}
			return a.Print(one, func(t *command.Table) {
				t.Line(
					fmt.Sprintf(
						"%s is %s%s", one.Email, one.Role,
						map[bool]string{true: ", and disabled"}[one.Disabled != nil],
					),
				)
			})
		},
	}
	f := change.Flags()
	f.StringVar(&newRole, "role", "", "reader, editor, approver or admin")
	f.StringVar(&newName, "name", "", "what people are to read")
	f.BoolVar(&disable, "disable", false, "sign it out, and let it in no more")
	f.BoolVar(&enable, "enable", false, "let it in again")
	return change
}

func (a *Commands) accountLink() *cobra.Command {
	link := &cobra.Command{
		Use: "link EMAIL", Short: "Print a link at which the account sets a new password", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			address, err := s.Accounts().Link(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(map[string]string{"link": address}, func(t *command.Table) { t.Line(address) })
		},
	}
	return link
}

// differing says in what two records differ.
func differing(before, after json.RawMessage) string {
	var b, n map[string]json.RawMessage
	if json.Unmarshal(before, &b) != nil || json.Unmarshal(after, &n) != nil {
		return string(before) + " → " + string(after)
	}
	var out []string
	for name := range n {
		if string(b[name]) != string(n[name]) {
			out = append(out, name+": "+command.OrDash(string(b[name]))+" → "+string(n[name]))
		}
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// Audit returns the command audit.
func (a *Commands) Audit() *cobra.Command {
	var f api.AuditFilter
	var after, until string
	var export bool
	c := &cobra.Command{
		Use: "audit", Short: "Show the audit log: who did what, and what it changed", Args: cobra.NoArgs,
		Example: `  ubiquon audit --what key
  ubiquon audit --who duty@skerry.example --after 2026-11-01T00:00
  ubiquon audit --export > audit.ndjson`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			for text, at := range map[string]*time.Time{after: &f.After, until: &f.Until} {
				if text == "" {
					continue
				}
				if *at, _, err = authoring.ParseMoment(text, ""); err != nil {
					return command.Misuse{Err: err}
				}
			}
			if export {
				src, err := s.Accounts().ExportAudit(cmd.Context(), f)
				if err != nil {
					return err
				}
				_, err = a.Out.Write(src)
				return err
			}
			acts, err := s.Accounts().Audit(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": acts}, func(t *command.Table) {
				t.Row("AT", "WHO", "WHAT", "SUBJECT", "BEFORE → AFTER")
				for _, one := range acts {
					t.Row(
						command.When(&one.At), t.Short(one.Who, 26), one.What, t.Short(one.Subject, 20),
						t.Short(differing(one.Before, one.After), 48),
					)
				}
			})
		},
	}
	g := c.Flags()
	g.StringVar(&f.Who, "who", "", "an account's e-mail, or a key's name")
	g.StringVar(&f.What, "what", "", "as in key, or key create")
	g.StringVar(&f.Filter, "filter", "", "a CQL2 filter on who, kind, what, subject, address and at")
	g.StringVar(&f.Subject, "subject", "", "the id or name of what it was done to")
	g.StringVar(&after, "after", "", "from this moment on, as in 2026-11-01T00:00 (UTC)")
	g.StringVar(&until, "until", "", "up to this moment")
	g.IntVar(&f.Limit, "limit", 0, "how many lines (default 100; with --export all)")
	g.BoolVar(&export, "export", false, "write all of it as NDJSON")
	c.AddCommand(a.auditVerify())
	return c
}

func (a *Commands) auditVerify() *cobra.Command {
	var contains string
	c := &cobra.Command{
		Use: "verify", Short: "Verify the audit log: no record was changed or removed", Args: cobra.NoArgs,
		Long: `Checks that each line carries the digest of the line before and its own. Lines at the
end can be taken out without a trace in the log itself: keep the digest that is printed
somewhere else, and give it with --contains the next time.`,
		Example: `  ubiquon audit verify
  ubiquon audit verify --contains 5f3c…`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			state, err := s.Accounts().VerifyAudit(cmd.Context(), contains)
			if err != nil {
				return err
			}
			if err := a.Print(state, func(t *command.Table) {
				if state.Broken == 0 {
					t.Line(fmt.Sprintf("%d lines, and each fits the one before.", state.Lines))
				}
				t.Line("Digest of the newest line: " + state.Hash)
			}); err != nil {
				return err
			}
			switch {
			case state.Broken > 0:
				return fmt.Errorf(
					"the audit log was changed: line %d does not fit what stands before it", state.Broken,
				)
			case state.Contains != nil && !*state.Contains:
				return errors.New("the audit log was changed: no line has the digest " + contains)
			}
			return nil
		},
	}
	c.Flags().StringVar(&contains, "contains", "", "the digest of a line that must be there")
	return c
}
