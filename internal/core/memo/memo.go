// Package memo keeps what is made once of something that is used again and again.
package memo

// Memo keeps what was made under keys, as a sync.Map does.
type Memo interface {
	Load(key any) (value any, known bool)
	LoadOrStore(key, value any) (kept any, known bool)
}

// Of returns what is kept under a key, and makes it if there is nothing: perhaps more than once at a time, and
// then one of them is kept. With no memo it is made each time. Nobody changes what is returned. Under one key
// everything is of one type.
func Of[T any](m Memo, key any, mk func() T) T {
	if m == nil {
		return mk()
	}
	v, known := m.Load(key)
	if !known {
		v, _ = m.LoadOrStore(key, mk())
	}
	return v.(T)
}
