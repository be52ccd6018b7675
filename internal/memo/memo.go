// Package memo keeps what was decoded last: content never changes, so what it says need not be read twice.
package memo

import (
	"slices"
	"sync"

	"morvant/internal/digest"
)

// kept is how many are kept: those of a build or two.
const kept = 4

// Memo is empty at first, and can be asked by several at once.
type Memo struct {
	mu   sync.Mutex
	list []entry
}

type entry struct {
	of digest.Digest
	is any
}

// Of returns what is kept of content, or makes it. It is shared: whoever changes it changes a copy.
func Of[T any](m *Memo, of digest.Digest, decode func() (T, error)) (T, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, e := range m.list {
		if is, ok := e.is.(T); ok && e.of == of {
			return is, nil
		}
	}
	is, err := decode()
	if err == nil {
		m.list = append(m.list, entry{of, is})
		m.list = slices.Delete(m.list, 0, max(0, len(m.list)-kept))
	}
	return is, err
}
