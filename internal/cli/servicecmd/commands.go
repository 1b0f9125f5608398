// Package servicecmd has the commands of the service: serve, demo, status, caches, builds,
// events, origins.
package servicecmd

import "ubiquon/internal/cli/command"

// Commands makes the commands of this package. It is for one run of the command line.
type Commands struct{ *command.App }
