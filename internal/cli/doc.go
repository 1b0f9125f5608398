// Package cli is the command line. Run is its entry point; the commands are in the packages below.
package cli
