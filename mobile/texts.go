package mobile

// Texts are several texts, in order.
type Texts struct{ all []string }

// NewTexts gives texts, none yet.
func NewTexts() *Texts { return &Texts{} }

// Add adds one at the end.
func (t *Texts) Add(text string) *Texts {
	if t != nil {
		t.all = append(t.all, text)
	}
	return t
}

// Len is how many there are.
func (t *Texts) Len() int {
	if t == nil {
		return 0
	}
	return len(t.all)
}

// At gives one, from 0 on. The error is misuse where there is none.
func (t *Texts) At(i int) (string, error) {
	if i < 0 || i >= t.Len() {
		return "", misuse("there is no text %d of %d", i, t.Len())
	}
	return t.all[i], nil
}
