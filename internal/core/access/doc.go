// Package access decides what a principal may do, and why not: grants, rights, keys, tokens,
// preview links and rate limits.
package access
