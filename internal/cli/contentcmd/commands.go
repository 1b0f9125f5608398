// Package contentcmd has the commands of content: entries, the model, locales, schedules,
// previews, reads.
package contentcmd

import "ubiquon/internal/cli/command"

// Commands makes the commands of this package. It is for one run of the command line.
type Commands struct{ *command.App }
