package invalidation

// kept are things that many hold, each kept once for as long as somebody does.
type kept[T any] struct {
	all    pool[keptOne[T]]
	number map[string]uint32
}

type keptOne[T any] struct {
	one     T
	key     string
	holders int
}

// hold returns the number of what has the key; made makes it if nobody holds it.
func (k *kept[T]) hold(key string, made func() T) uint32 {
	n := k.number[key]
	if n == 0 {
		if k.number == nil {
			k.number = map[string]uint32{}
		}
		n = k.all.add(keptOne[T]{one: made(), key: key})
		k.number[key] = n
	}
	k.all.at(n).holders++
	return n
}

func (k *kept[T]) at(n uint32) T { return k.all.at(n).one }

func (k *kept[T]) drop(n uint32) {
	held := k.all.at(n)
	if held.holders--; held.holders == 0 {
		delete(k.number, held.key)
		k.all.remove(n)
	}
}
