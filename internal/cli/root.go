package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
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
	exitFine   = 0
	exitFailed = 1
	exitMisuse = 2
)

// misuse is an error of how the command was called.
type misuse struct{ error }

func misusef(format string, args ...any) error { return misuse{fmt.Errorf(format, args...)} }

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	address  string
	key      string
	output   string
}

// Run runs the command line and returns the exit code: 0 fine, 1 failed, 2
// misuse.
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
	fmt.Fprintln(errOut, "ubiquon: "+err.Error())
	var wrong misuse
	if errors.As(err, &wrong) || strings.HasPrefix(err.Error(), "unknown command") {
		return exitMisuse
	}
	return exitFailed
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
	f.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch a.output {
		case "table", "json", "yaml":
			return nil
		}
		return misusef("--output is table, json or yaml, not %q", a.output)
	}
	root.AddCommand(a.demo(), a.serve(), a.status(), a.wake(), a.originCommand(), a.read(), a.model(), a.entry(), a.schedule(), a.locale(), a.event(), a.build(), a.cache(), a.change(), a.keyCommand(), a.openCommand("open"), a.openCommand("close"), a.previewCommand(), a.why(), a.document(), a.account(), a.audit(), a.generate(), a.version())
	for _, c := range root.Commands() {
		checkArgs(c)
	}
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

// service is the client of the running service.
func (a *app) service() (*client.Client, error) {
	c := &client.Client{Address: a.address, Key: a.key}
	if c.Address == "" {
		c.Address = os.Getenv("UBIQUON_ADDRESS")
	}
	if c.Address == "" {
		c.Address = "http://127.0.0.1:8400"
	}
	if c.Key == "" {
		c.Key = os.Getenv("UBIQUON_KEY")
	}
	if !strings.Contains(c.Address, "://") {
		c.Address = "http://" + c.Address
	}
	if c.Key == "" {
		return nil, misusef("no key; give one with --key or UBIQUON_KEY (the demo's are in .ubiquon/demo.json)")
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
	return &cobra.Command{Use: "version", Short: "Print the version", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		v := versionText()
		return a.print(map[string]string{"version": v}, func(w *table) { w.line("ubiquon " + v) })
	}}
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
