package mobile

import (
	"maps"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/value"
)

// ForBoard serves package boards: it returns the declared keys, which can't be changed afterwards.
func (k *Keys) ForBoard() ([]pantry.AnyKey, error) {
	if k == nil {
		return nil, handover.Misuse("there are no keys: make them with NewKeys")
	}
	return k.take()
}

// ForBoard serves package boards: it returns the key, if it is one of keys.
func (k *key[M, T]) ForBoard(keys *Keys) (handover.Key[M, T], error) {
	return k.handed(), among(k, keys)
}

func (k *key[M, T]) handed() handover.Key[M, T] {
	return handover.Key[M, T]{Key: k.k, In: k.as.in, Out: k.as.out}
}

// ForBoard serves package boards: it returns the key, if it is one of keys.
func (k *ListKey) ForBoard(keys *Keys) (handover.AnyKey, error) {
	if err := among(k, keys); err != nil {
		return nil, err
	}
	return k.list.anyList(), nil
}

func (l *listOf[T]) anyList() handover.AnyKey { return l.handed() }

// ForBoard serves package boards: it returns the key, if it is one of keys.
func (k *RecordsKey) ForBoard(keys *Keys) (pantry.RecordsKey[map[string]value.Value], error) {
	return k.k, among(k, keys)
}

// among returns misuse if a key is not one of keys.
func among(k anyKey, keys *Keys) error {
	if err := k.ready(); err != nil {
		return err
	}
	if k.of() != keys {
		return handover.Misuse("%s was declared with other keys than the board was joined with", k.declared().Name())
	}
	return nil
}

// ForBoard serves package boards: it returns a copy of the record's values.
func (r *Record) ForBoard() (map[string]value.Value, error) {
	if r == nil {
		return nil, handover.Misuse("there is no record: make one with NewRecord")
	}
	if m := maps.Clone(r.all); m != nil {
		return m, nil
	}
	return map[string]value.Value{}, nil
}

// RecordFromBoard serves package boards: it returns a record of values.
func RecordFromBoard(all map[string]value.Value) *Record { return &Record{all} }
