// Package why answers one question: why can this reader not see this entry? It takes facts and
// returns reasons, each with a remedy. Who gathers the facts is package diagnose.
package why
