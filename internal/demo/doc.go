// Package demo is the Skerry Line, a made-up ferry line: its model, content,
// pictures and configuration, and the scenario that plays with them.
package demo
