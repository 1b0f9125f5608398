package servicecmd

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/console"
	"ubiquon/internal/demo"
)

// Demo returns the command demo.
func (a *Commands) Demo() *cobra.Command {
	var o demo.Options
	var once, free bool
	var level string
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the demo: the service with the content of the Skerry Line and simulated outside systems",
		Long: `Starts a private PostgreSQL, the gateway, the harbour office (where content is
written), the slipway (which builds the site), the board (a display at the piers),
the breakwater (a shared cache for what everyone may read) and the mailbox (a mail
server that shows what it got), and prints where everything is. Ctrl-C stops all
of it; the next start takes up where this one was.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := newLog(a.Err, level, "text")
			if err != nil {
				return err
			}
			o.Log, o.Console, o.Say = log, console.Files(), a.Err
			if free || once {
				for name, address := range map[string]*string{
					"listen": &o.Listen, "office": &o.Office,
					"slipway": &o.Slipway, "breakwater": &o.Breakwater, "board": &o.Board, "mailbox": &o.Mailbox,
					"smtp": &o.SMTP,
				} {
					if !cmd.Flags().Changed(name) {
						*address = "127.0.0.1:0"
					}
				}
			}
			d, err := demo.Start(cmd.Context(), o)
			if err != nil {
				if cmd.Context().Err() != nil {
					return errors.New("stopped while starting")
				}
				return fmt.Errorf("starting the demo: %w", err)
			}
			defer d.Close()
			if once {
				return d.Tour(cmd.Context(), a.Out)
			}
			a.card(d.Connection, o.Data)
			select {
			case <-cmd.Context().Done():
				fmt.Fprintln(a.Err, "\nStopping")
				return nil
			case err := <-d.Failed():
				return err
			}
		},
	}
	f := c.Flags()
	f.StringVar(&o.Data, "data", ".ubiquon", "where everything is kept")
	f.StringVar(&o.Listen, "listen", "127.0.0.1:8400", "the gateway's address; port 0 picks a free one")
	f.StringVar(&o.Office, "office", "127.0.0.1:8410", "the harbour office's address")
	f.StringVar(&o.Slipway, "slipway", "127.0.0.1:8420", "the slipway's address")
	f.StringVar(&o.Breakwater, "breakwater", "127.0.0.1:8430", "the address of the shared cache before the gateway")
	f.StringVar(&o.Board, "board", "127.0.0.1:8440", "the address of the pier display")
	f.StringVar(&o.Mailbox, "mailbox", "127.0.0.1:8450", "the address of the page of the mail server")
	f.StringVar(&o.SMTP, "smtp", "127.0.0.1:8451", "where the mail server takes mail")
	f.IntVar(&o.Nodes, "nodes", 1, "how many nodes serve, behind a front that hands requests to them in turn")
	f.DurationVar(&o.SlipwayDelay, "slipway-delay", 0, "make every build take this much longer")
	f.BoolVar(&free, "free-ports", false, "take whatever ports are free, where no address is given")
	f.BoolVar(&once, "once", false, "play the tour once, on free ports, and exit")
	f.BoolVar(&o.Swap, "swap", false, "move the dispatches from the office to a folder: the site stays the same")
	f.BoolVar(&o.Fresh, "fresh", false, "throw away what an earlier run left, and begin anew")
	f.StringVar(&level, "log-level", "warn", "debug, info, warn or error")
	return c
}

func (a *Commands) card(c demo.ConnectionInfo, data string) {
	user, password, _ := strings.Cut(c.OfficeCredentials, ":")
	say := func(format string, args ...any) { fmt.Fprintf(a.Out, format+"\n", args...) }
	say(`
The Skerry Line is running.

  Gateway          %s
  Console          %s/console/      user %s, password %s
  Harbour office   %s       user %s, password %s
  Slipway          %s       the built site
  Board            %s       the display at the piers
  Breakwater       %s       what everyone may read, from a shared cache
  Mailbox          %s       the mail that was sent

  Keys   published %s
         preview   %s
         admin     %s
         site      %s
`, c.Gateway, c.Gateway, c.Accounts[0].Email, c.Accounts[0].Password, c.Office, user, password, c.Slipway,
		c.Board, c.Breakwater, c.Mailbox, c.Keys.Published, c.Keys.Preview, c.Keys.Admin, c.Keys.Site)
	for i, address := range c.Nodes {
		say("  Node %d           %s", i+1, address)
		if i == len(c.Nodes)-1 {
			say("")
		}
	}
	say("Try, in another terminal:\n")
	say("  export UBIQUON_ADDRESS=%s UBIQUON_KEY=%s", c.Gateway, c.Keys.Admin)
	say("  %s read '/dispatches?limit=3&fields=title,writer(name)' --headers", os.Args[0])
	say("  %s why draft-easter-timetable", os.Args[0])
	say("  %s event list\n", os.Args[0])
	say("All of this is in %s. Ctrl-C stops everything.", demo.CardFile(data))
}
