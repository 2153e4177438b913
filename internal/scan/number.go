package scan

import (
	"strconv"
)

// Number reads a number in its spelling. integer is true if it has neither a point nor an exponent.
func (r *Reader) Number() (literal []byte, integer bool, err error) {
	r.space()
	start := r.pos
	// Most numbers are plain integers that more text follows.
	i := start
	if i < len(r.data) && r.data[i] == '-' {
		i++
	}
	first := i
	for i < len(r.data) && '0' <= r.data[i] && r.data[i] <= '9' {
		i++
	}
	if i < len(r.data) && i > first && (r.data[first] != '0' || i == first+1) && r.data[i] != '.' && r.data[i] != 'e' && r.data[i] != 'E' {
		r.pos = i
		return r.data[start:i], true, nil
	}
	at := func() byte {
		if r.pos < len(r.data) {
			return r.data[r.pos]
		}
		return 0
	}
	digits := func() bool {
		from := r.pos
		for c := at(); '0' <= c && c <= '9'; c = at() {
			r.pos++
		}
		return r.pos > from
	}
	if at() == '-' {
		r.pos++
	}
	if at() == '0' {
		r.pos++
	} else if !digits() {
		return nil, false, r.Errorf("something that is not a value")
	}
	integer = true
	if at() == '.' {
		integer = false
		r.pos++
		if !digits() {
			return nil, false, r.Errorf("a point without digits after it")
		}
	}
	if c := at(); c == 'e' || c == 'E' {
		integer = false
		r.pos++
		if c := at(); c == '+' || c == '-' {
			r.pos++
		}
		if !digits() {
			return nil, false, r.Errorf("an exponent without digits")
		}
	}
	return r.data[start:r.pos], integer, nil
}

// Int reads an integer of 64 bits.
func (r *Reader) Int() (int64, error) {
	if x, ok := r.shortInt(); ok {
		return x, nil
	}
	start := r.pos
	lit, integer, err := r.Number()
	if err != nil {
		return 0, err
	}
	if !integer {
		r.pos = start
		return 0, r.Errorf("%s is not an integer", lit)
	}
	x, ok := ParseInt(lit)
	if !ok {
		r.pos = start
		return 0, r.Errorf("%s does not fit in 64 bits", lit)
	}
	return x, nil
}

// shortInt reads an integer with few digits that more text follows, which most are. For any other
// it reads nothing and returns false.
func (r *Reader) shortInt() (x int64, ok bool) {
	r.space()
	data, i := r.data, r.pos
	neg := i < len(data) && data[i] == '-'
	if neg {
		i++
	}
	first := i
	for ; i < len(data) && '0' <= data[i] && data[i] <= '9'; i++ {
		x = x*10 + int64(data[i]-'0')
	}
	digits := i - first
	if digits == 0 || digits > 18 || digits > 1 && data[first] == '0' || i == len(data) {
		return 0, false
	}
	if c := data[i]; c == '.' || c == 'e' || c == 'E' {
		return 0, false
	}
	if r.pos = i; neg {
		x = -x
	}
	return x, true
}

// ParseInt parses an integer literal of JSON. It returns false if the number exceeds 64 bits.
func ParseInt(lit []byte) (int64, bool) {
	digits := lit
	neg := len(lit) > 0 && lit[0] == '-'
	if neg {
		digits = lit[1:]
	}
	if len(digits) > 18 {
		x, err := strconv.ParseInt(string(lit), 10, 64)
		return x, err == nil
	}
	var x int64
	for _, c := range digits {
		x = x*10 + int64(c-'0')
	}
	if neg {
		x = -x
	}
	return x, true
}
