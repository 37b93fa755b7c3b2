package codec

// Most numbers are short, and written plainly: a sign, some digits, a point and some more. These are read here, in one pass over their bytes; all
// others are for the standard library, which is the judge.

// tens are the powers of ten that a double holds exactly.
var tens = [...]float64{1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// exactDigits is how many digits a whole number may have for a double to hold it.
const exactDigits = 15

// DoubleAt reads the plain number of up to 15 digits that begins at i, which is within t, and gives where it ends; end is -1 for any other. Both
// the whole number that the digits make and the power of ten that it is to be divided by are exact, so that one division gives the nearest double
// (Clinger, How to Read Floating Point Numbers Accurately, 1990): 3.217 is 3217/1000.
func DoubleAt(t []byte, i int) (v float64, end int) {
	j := i
	if t[j] == '-' {
		j++
	}
	first, u := j, uint64(0)
	for ; j < len(t) && t[j]-'0' <= 9; j++ {
		u = u*10 + uint64(t[j]-'0')
	}
	n, behind := j-first, 0
	if n == 0 || n > 1 && t[first] == '0' {
		return 0, -1
	}
	if j < len(t) && t[j] == '.' {
		j++
		point := j
		for ; j < len(t) && t[j]-'0' <= 9; j++ {
			u = u*10 + uint64(t[j]-'0')
		}
		if behind = j - point; behind == 0 {
			return 0, -1
		}
	}
	if n+behind > exactDigits || j < len(t) && t[j]|0x20 == 'e' {
		return 0, -1
	}
	v = float64(u)
	if behind > 0 {
		v /= tens[behind]
	}
	if first > i {
		v = -v
	}
	return v, j
}

// WholeAt reads the whole number of up to 18 digits that begins at i, which is within t, and gives where it ends; end is -1 for any other.
func WholeAt(t []byte, i int) (v int64, end int) {
	j := i
	if t[j] == '-' {
		j++
	}
	first := j
	for ; j < len(t) && t[j]-'0' <= 9; j++ {
		v = v*10 + int64(t[j]-'0')
	}
	if n := j - first; n == 0 || n > 18 || n > 1 && t[first] == '0' || j < len(t) && (t[j] == '.' || t[j]|0x20 == 'e') {
		return 0, -1
	}
	if first > i {
		v = -v
	}
	return v, j
}

// whole reads a text that is a short whole number and nothing else.
func whole(text []byte) (int64, bool) {
	if len(text) == 0 {
		return 0, false
	}
	v, end := WholeAt(text, 0)
	return v, end == len(text)
}
