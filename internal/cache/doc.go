// Package cache holds responses until a change affects them. It never serves
// by age: a response is good until the change log says otherwise.
//
// Three invariants keep it honest, each with a test that provokes its race:
//
//   - A response subscribes to what it was made of, then looks at the changes
//     that came after the state it was read from, and only then may be found.
//   - A change is first remembered, then matched against subscribers, and only
//     then counts as applied.
//   - A reader that waits for somebody else's computation takes its result only
//     if nothing that was applied when the reader came affects it.
package cache
