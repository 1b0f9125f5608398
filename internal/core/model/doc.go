// Package model describes content: types, their fields, the locales and how
// one falls back to another. It reads the YAML form of a model, checks it as a
// whole and answers questions about it. It holds no content and knows nothing
// of storage or delivery.
package model
