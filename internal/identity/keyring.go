package identity

import (
	"maps"
	"sync"
	"sync/atomic"

	"ubiquon/internal/core/access"
)

// keyring holds every key by the hash of its secret, and by that of its former
// one. Looking up takes no lock and no memory: each of the shards is replaced as
// a whole when a key in it changes.
type keyring struct {
	open   atomic.Pointer[access.Grants]
	shards [256]atomic.Pointer[map[[32]byte]*heldKey]

	mu   sync.Mutex // held by who writes
	byID map[string]*heldKey
}

type heldKey struct {
	*access.Key
	meter *access.Meter
}

func (k *keyring) find(hash [32]byte) *heldKey {
	if shard := k.shards[hash[0]].Load(); shard != nil {
		return (*shard)[hash]
	}
	return nil
}

// publicGrants is what is open to everyone.
func (k *keyring) publicGrants() access.Grants {
	if open := k.open.Load(); open != nil {
		return *open
	}
	return nil
}

// replace puts in, or takes out, some keys; nil stands for one that is gone.
func (k *keyring) replace(changed map[string]*access.Key) {
	k.mu.Lock()
	defer k.mu.Unlock()
	shards := map[byte]map[[32]byte]*heldKey{}
	of := func(hash [32]byte) map[[32]byte]*heldKey {
		if shards[hash[0]] == nil {
			shards[hash[0]] = map[[32]byte]*heldKey{}
			if old := k.shards[hash[0]].Load(); old != nil {
				maps.Copy(shards[hash[0]], *old)
			}
		}
		return shards[hash[0]]
	}
	for id, key := range changed {
		old := k.byID[id]
		if old != nil {
			delete(of(old.Hash), old.Hash)
			delete(of(old.Former), old.Former)
			delete(k.byID, id)
		}
		if key == nil {
			continue
		}
		held := &heldKey{key, access.NewMeter(key.PerMinute)}
		if old != nil && old.PerMinute == key.PerMinute {
			held.meter = old.meter
		}
		of(key.Hash)[key.Hash] = held
		if key.FormerUntil != nil {
			of(key.Former)[key.Former] = held
		}
		k.byID[id] = held
	}
	for first, shard := range shards {
		k.shards[first].Store(&shard)
	}
}
