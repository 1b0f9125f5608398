// Package records describes what the service records of its own work, events and the audit
// log, as types of a model: so that they are filtered in the same language as content is.
package records

import (
	"fmt"

	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
)

const file = `
locales: {en: {name: English}}
types:
  event:
    label: Event
    fields:
      origin: {kind: text, help: The origin that announced it}
      state: {kind: choice, options: {waiting: waiting, done: done, failed: failed, refused: refused}}
      kind: {kind: text, help: "What happened: published, changed, deleted"}
      type: {kind: text, help: The type of the entry}
      title: {kind: text, help: The title of the entry}
      entry: {kind: text, help: The id of the entry}
      detail: {kind: text, help: Why it failed or was refused}
      sequence: {kind: integer, help: The change that it made}
      received: {kind: datetime, help: When it was accepted}
  act:
    label: Record of the audit log
    fields:
      who: {kind: text, help: The e-mail address or the key}
      kind: {kind: text, help: "What acted: user, key, event"}
      what: {kind: text, help: "What was done: entry publish, key add"}
      subject: {kind: text, help: The id or name of what it was done to}
      address: {kind: text, help: The network address that it came from}
      at: {kind: datetime, help: When it was done}
`

var described = func() *model.Model {
	m, err := model.Read(map[string][]byte{"records.yaml": []byte(file)})
	if err != nil {
		panic("records: " + err.Error()) // it is a constant
	}
	return m
}()

// The columns of the tables that hold records, as SQL, by property. The table has the alias v.
var (
	// EventColumns are those of events, joined with their entry as e.
	EventColumns = map[string]string{
		"origin": "v.origin", "state": "v.state", "kind": "v.decoded ->> 'kind'", "type": "e.type", "title": "e.title",
		"entry": "v.entry", "detail": "v.detail", "sequence": "v.sequence", "received": "v.received",
	}
	// ActColumns are those of the audit log.
	ActColumns = map[string]string{
		"who": "v.who", "kind": "v.kind", "what": "v.what", "subject": "v.subject", "address": "v.address", "at": "v.at",
	}
)

// Model describes all records.
func Model() *model.Model { return described }

// EventFilter reads a filter on events; empty text is no filter. Its error is a *query.Error
// that names the parameter filter.
func EventFilter(text string) (*filter.Filter, error) { return read(text, "event") }

// ActFilter reads a filter on the audit log; empty text is no filter. Its error is a
// *query.Error that names the parameter filter.
func ActFilter(text string) (*filter.Filter, error) { return read(text, "act") }

func read(text, name string) (*filter.Filter, error) {
	if text == "" {
		return nil, nil
	}
	t := described.Type(name)
	if t == nil {
		return nil, fmt.Errorf("records: no type %s", name)
	}
	return query.ParseFilter("filter", text, described, t)
}
