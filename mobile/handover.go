package mobile

import (
	"context"
	"errors"
	"iter"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
)

// A sharedKey is a key as package shared takes it.
type sharedKey interface {
	declared() pantry.AnyKey
	of() *Keys
	ready() error
}

func (k *key[M, T]) of() *Keys { return k.keys }

func init() {
	handover.All = func(keys any) ([]pantry.AnyKey, error) {
		k, _ := keys.(*Keys)
		if k == nil {
			return nil, misuse("there are no keys: make them with NewKeys")
		}
		return k.take()
	}
	handover.Key = func(keys, key any) (any, error) {
		k := key.(sharedKey)
		if err := k.ready(); err != nil {
			return nil, err
		}
		if k.of() != keys.(*Keys) {
			return nil, misuse("%s was declared with other keys than the board was joined with", k.declared().Name())
		}
		return k.declared(), nil
	}
	handover.Watch = func(runner, handler any, changes func(ctx context.Context) iter.Seq[struct{}]) (any, error) {
		r, _ := runner.(Runner)
		h, _ := handler.(Handler)
		return watch(r, h, changes)
	}
	handover.Problems = func(runner, handler any, told func(error) error) (func(pantry.Problem), error) {
		r, _ := runner.(Runner)
		h, _ := handler.(ProblemHandler)
		return problems(r, h, told)
	}
	handover.Told = told
	handover.Failure = func(code, sentence string, cause error) error {
		if code == "misuse" {
			cause = errors.Join(errMisuse, cause)
		}
		return &failure{code, sentence, cause}
	}
}
