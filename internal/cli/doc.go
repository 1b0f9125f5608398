// Package cli is the command line: one file a noun. It speaks to a running
// service through internal/client; only serve and demo run one themselves.
package cli
