// Package server serves an environment over HTTP: it mounts the surfaces (contentapi, controlapi,
// hooks, console, health, metrics) and adds what all of them share.
package server
