// Ubiquon is a delivery gateway: it serves content over REST and GraphQL, keeps
// answers in a cache that is never stale, and rebuilds sites on publish.
package main

import (
	"os"

	"ubiquon/internal/cli"
	"ubiquon/internal/rendering"
)

func main() {
	rendering.RunIfChild()
	os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
