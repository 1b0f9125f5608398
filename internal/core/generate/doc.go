// Package generate writes types for a model: for TypeScript, with a small typed
// reader, and for Go. The output names no address and no key.
package generate
