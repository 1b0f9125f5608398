// Package demo is the Skerry Line, a made-up ferry line: its model and content, the simulated
// systems around the service, and a tour through them.
package demo
