package mobile

import (
	"context"
	"errors"
	"iter"
	"reflect"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/value"
)

func (k *key[M, T]) form() (in, out any) { return k.as.in, k.as.out }

func init() {
	handover.All = func(keys any) ([]pantry.AnyKey, error) {
		k, _ := keys.(*Keys)
		if k == nil {
			return nil, misuse("there are no keys: make them with NewKeys")
		}
		return k.take()
	}
	handover.Key = func(keys, key any) (any, error) {
		if reflect.ValueOf(key).IsNil() {
			return nil, misuse("there is no key")
		}
		k := key.(anyKey)
		if err := k.ready(); err != nil {
			return nil, err
		}
		if k.of() != keys.(*Keys) {
			return nil, misuse("%s was declared with other keys than the board was joined with", k.declared().Name())
		}
		return k.declared(), nil
	}
	handover.Form = func(key any) (in, out any) {
		return key.(interface{ form() (in, out any) }).form()
	}
	handover.Values = func(record any) (map[string]value.Value, error) {
		r, _ := record.(*Record)
		return r.values()
	}
	handover.NewRecord = func(all map[string]value.Value) any { return &Record{all} }
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
