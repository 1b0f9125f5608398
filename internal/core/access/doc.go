// Package access says what somebody may do, and why not: grants, who holds them
// (everyone, keys, tokens issued elsewhere, accounts), and which one is missing.
// Rights only ever add up.
package access
