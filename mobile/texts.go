package mobile

import "github.com/small-pantry/pantry/internal/handover"

// Texts are several texts, in order.
type Texts struct{ all []string }

// NewTexts returns an empty list.
func NewTexts() *Texts { return &Texts{} }

// Add adds a text at the end.
func (t *Texts) Add(text string) *Texts {
	if t != nil {
		t.all = append(t.all, text)
	}
	return t
}

// Len returns the number of texts.
func (t *Texts) Len() int {
	if t == nil {
		return 0
	}
	return len(t.all)
}

// At returns the text at an index from 0. An index out of range is misuse.
func (t *Texts) At(i int) (string, error) {
	if i < 0 || i >= t.Len() {
		return "", handover.Misuse("there is no text %d of %d", i, t.Len())
	}
	return t.all[i], nil
}
