package pantry

import (
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A DeclaredKey is a key as some app declared it, which the namespace keeps
// beside the entries.
type DeclaredKey struct {
	Name    string      `json:"name"`
	Kind    value.Kind  `json:"kind"`
	Default value.Value `json:"default,omitzero"` // no value for a sealed key and for records
	About   string      `json:"about,omitempty"`
	Min     value.Value `json:"min,omitzero"` // no value: no bound
	Max     value.Value `json:"max,omitzero"`
	Keep    int         `json:"keep,omitempty"` // 0: a list of any length
	Many    bool        `json:"many,omitempty"` // records: the entries are Name/ID
}

// Declared gives the keys that apps have declared, by the order of their names.
func (ns *Namespace) Declared() []DeclaredKey {
	var out []DeclaredKey
	for _, d := range ns.namespace().l.Keys() {
		out = append(out, declaredKey(d))
	}
	return out
}

func declaredKey(d ledger.Declared) DeclaredKey {
	return DeclaredKey{Name: d.Name, Kind: d.Kind, Default: d.Default, About: d.About, Min: d.Min, Max: d.Max, Keep: d.Keep, Many: d.Many}
}
