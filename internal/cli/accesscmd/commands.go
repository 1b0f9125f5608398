// Package accesscmd has the commands of access: keys, accounts, the audit log.
package accesscmd

import "ubiquon/internal/cli/command"

// Commands makes the commands of this package. It is for one run of the command line.
type Commands struct{ *command.App }
