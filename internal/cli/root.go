package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"ubiquon/internal/client"
)

// The exit codes.
const (
	exitFine        = 0
	exitFailed      = 1
	exitMisuse      = 2
	exitNotFound    = 3 // what was named is not there
	exitRefused     = 4 // no key, a key that is not good, or one that lacks a grant
	exitUnreachable = 5 // no service answers, or it says that it cannot at the moment
	exitConflict    = 6 // somebody else has changed it, or it does not go with what is there
)

// exitOf is the exit code for an error.
func exitOf(err error) int {
	var wrong misuse
	var problem *client.Problem
	switch {
	case errors.As(err, &wrong), strings.HasPrefix(err.Error(), "unknown command"):
		return exitMisuse
	case errors.Is(err, client.ErrUnreachable):
		return exitUnreachable
	case !errors.As(err, &problem):
		return exitFailed
	}
	switch problem.Status {
	case http.StatusNotFound, http.StatusGone:
		return exitNotFound
	case http.StatusUnauthorized, http.StatusForbidden:
		return exitRefused
	case http.StatusServiceUnavailable, http.StatusGatewayTimeout, http.StatusTooManyRequests:
		return exitUnreachable
	case http.StatusConflict, http.StatusPreconditionFailed:
		return exitConflict
	}
	return exitFailed
}

// misuse is an error of how the command was called.
type misuse struct{ error }

func misusef(format string, args ...any) error { return misuse{fmt.Errorf(format, args...)} }

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	address  string
	key      string
	context  string
	output   string
}

// Run runs the command line and returns the exit code, one of those above.
func Run(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	a := &app{in: in, out: out, err: errOut}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitFine
	}
	a.complain(err)
	return exitOf(err)
}

// complain tells of an error: as a problem document (RFC 9457) where the output is JSON.
func (a *app) complain(err error) {
	if a.output != "json" {
		fmt.Fprintln(a.err, "ubiquon: "+err.Error())
		return
	}
	var problem *client.Problem
	if !errors.As(err, &problem) {
		problem = &client.Problem{Title: "The command failed", Detail: err.Error()}
		if exitOf(err) == exitMisuse {
			problem.Title = "The command is not used like this"
		}
	}
	enc := json.NewEncoder(a.err)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(problem) // plain records
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ubiquon",
		Short: "A delivery gateway: content out fast, never stale, sites rebuilt on publish",
		Long: `Ubiquon serves published and preview content over REST and GraphQL, keeps
answers in a cache that is never stale, and rebuilds sites when something is
published.

Begin with: ubiquon demo`,
		Version:       versionText(),
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetVersionTemplate("ubiquon {{.Version}}\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return misuse{err} })
	f := root.PersistentFlags()
	f.StringVar(&a.address, "address", "", "the service's address (UBIQUON_ADDRESS; default http://127.0.0.1:8400)")
	f.StringVar(&a.key, "key", "", "the key to send (UBIQUON_KEY)")
	f.StringVar(&a.context, "context", "", "a service that is remembered (UBIQUON_CONTEXT): see ubiquon context")
	f.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch a.output {
		case "table", "json", "yaml":
			return nil
		}
		return misusef("--output is table, json or yaml, not %q", a.output)
	}
	root.AddCommand(
		a.demo(), a.serve(), a.status(), a.wake(), a.originCommand(), a.read(), a.model(), a.entry(), a.schedule(),
		a.locale(), a.event(), a.build(), a.cache(), a.change(), a.keyCommand(), a.openCommand("open"),
		a.openCommand("close"), a.previewCommand(), a.why(), a.document(), a.account(), a.audit(), a.generate(),
		a.contextCommand(), a.configCommand(), a.version(),
	)
	for _, c := range root.Commands() {
		checkArgs(c)
		a.complete(c)
	}
	_ = root.RegisterFlagCompletionFunc("context", completeContexts) // there is such a flag
	_ = root.RegisterFlagCompletionFunc(
		"output", cobra.FixedCompletions([]string{"table", "json", "yaml"}, cobra.ShellCompDirectiveNoFileComp),
	)
	return root
}

// checkArgs makes a wrong number of arguments a misuse.
func checkArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return misusef("%w; see %s --help", err, cmd.CommandPath())
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		checkArgs(sub)
	}
}

// service is the client of the running service: of flags, variables and the context that
// is in use, the first that says something counts, for the address and the key apart. A
// context that is named counts before the variables.
func (a *app) service() (*client.Client, error) {
	c := &client.Client{Address: a.address, Key: a.key}
	named := cmp.Or(a.context, os.Getenv("UBIQUON_CONTEXT"))
	known, dir, err := readContexts()
	if err != nil && named != "" {
		return nil, err
	}
	if named == "" {
		c.Address, c.Key = cmp.Or(c.Address, os.Getenv("UBIQUON_ADDRESS")), cmp.Or(c.Key, os.Getenv("UBIQUON_KEY"))
		if err == nil && (c.Address == "" || c.Key == "") {
			named = known.Current
		}
	}
	// The key of a context is for its address alone.
	if named != "" && c.Address == "" {
		address, key, err := known.named(dir, named)
		if err != nil {
			return nil, err
		}
		c.Address, c.Key = address, cmp.Or(c.Key, key)
	}
	if c.Address == "" {
		c.Address = "http://127.0.0.1:8400"
	}
	if !strings.Contains(c.Address, "://") {
		c.Address = "http://" + c.Address
	}
	// What readers have in UBIQUON_ADDRESS leads to an edition.
	c.Address, _, _ = strings.Cut(c.Address, "/content/")
	c.Address = strings.TrimSuffix(c.Address, "/")
	if c.Key == "" {
		return nil, misusef(
			"no key; give one with --key or UBIQUON_KEY, or remember one with ubiquon context add (the demo's are " +
				"in .ubiquon/demo.json)",
		)
	}
	return c, nil
}

// noun makes the command that groups a noun's verbs.
func noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return misusef("say what to do with it; see %s --help", cmd.CommandPath())
	}}
	c.AddCommand(verbs...)
	return c
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the version",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v := versionText()
			return a.print(map[string]string{"version": v}, func(w *table) { w.line("ubiquon " + v) })
		},
	}
}

func versionText() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	text := info.Main.Version
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 12 {
			text += " " + s.Value[:12]
		}
	}
	return strings.TrimSpace(text + " " + info.GoVersion)
}
