// Package server spells the gateway in HTTP: one file a surface (rest, graphql,
// hooks, control, console, health). It parses requests, calls the gateway, and
// writes what comes back; it holds no state of its own.
package server
