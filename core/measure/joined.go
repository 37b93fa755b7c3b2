package measure

// SetSums makes the first n entries of dst the sums of those of some sources, added one source after the other: (a + b) + c, so
// that sums of doubles are the same however many are read in one pass. Up to eight are, so that a sum is not stored and
// read again between them.
func SetSums[S any, T int64 | float64](dst []T, srcs []S, n int, of func(S) []T) {
	inPasses(dst[:n], srcs, of, setSum2, setSum4, setSum6, setSum8)
}

// setGreatest does so for the greatest.
func setGreatest[S any](dst []int64, srcs []S, n int, of func(S) []int64) {
	inPasses(dst[:n], srcs, of, setMax2, setMax4, setMax6, setMax8)
}

// inPasses joins one source or more by functions that set their first argument to what two, four, six or eight others have together. From the
// second pass on what dst has so far is the first of these.
func inPasses[S, T any](dst []T, srcs []S, of func(S) []T, two func(z, a, b []T), four func(z, a, b, c, d []T), six func(z, a, b, c, d, e, f []T), eight func(z, a, b, c, d, e, f, g, h []T)) {
	if len(srcs) == 1 {
		copy(dst, of(srcs[0]))
		return
	}
	in, k := [8][]T{0: of(srcs[0])}, 1
	for srcs = srcs[1:]; len(srcs) > 0; k = 1 {
		for k < len(in) && len(srcs) > 0 {
			in[k], srcs = of(srcs[0]), srcs[1:]
			k++
		}
		switch k {
		case 2, 3:
			two(dst, in[0], in[1])
		case 4, 5:
			four(dst, in[0], in[1], in[2], in[3])
		case 6, 7:
			six(dst, in[0], in[1], in[2], in[3], in[4], in[5])
		default:
			eight(dst, in[0], in[1], in[2], in[3], in[4], in[5], in[6], in[7])
		}
		if k&1 == 1 {
			two(dst, dst, in[k-1])
		}
		in[0] = dst
	}
}

func setSum2[T int64 | float64](z, a, b []T) {
	a, b = a[:len(z)], b[:len(z)]
	for i := range z {
		z[i] = a[i] + b[i]
	}
}

func setSum4[T int64 | float64](z, a, b, c, d []T) {
	a, b, c, d = a[:len(z)], b[:len(z)], c[:len(z)], d[:len(z)]
	for i := range z {
		z[i] = a[i] + b[i] + c[i] + d[i]
	}
}

func setSum6[T int64 | float64](z, a, b, c, d, e, f []T) {
	a, b, c, d, e, f = a[:len(z)], b[:len(z)], c[:len(z)], d[:len(z)], e[:len(z)], f[:len(z)]
	for i := range z {
		z[i] = a[i] + b[i] + c[i] + d[i] + e[i] + f[i]
	}
}

func setSum8[T int64 | float64](z, a, b, c, d, e, f, g, h []T) {
	a, b, c, d, e, f, g, h = a[:len(z)], b[:len(z)], c[:len(z)], d[:len(z)], e[:len(z)], f[:len(z)], g[:len(z)], h[:len(z)]
	for i := range z {
		z[i] = a[i] + b[i] + c[i] + d[i] + e[i] + f[i] + g[i] + h[i]
	}
}

func setMax2(z, a, b []int64) {
	a, b = a[:len(z)], b[:len(z)]
	for i := range z {
		z[i] = max(a[i], b[i])
	}
}

func setMax4(z, a, b, c, d []int64) {
	a, b, c, d = a[:len(z)], b[:len(z)], c[:len(z)], d[:len(z)]
	for i := range z {
		z[i] = max(max(a[i], b[i]), max(c[i], d[i]))
	}
}

func setMax6(z, a, b, c, d, e, f []int64) {
	a, b, c, d, e, f = a[:len(z)], b[:len(z)], c[:len(z)], d[:len(z)], e[:len(z)], f[:len(z)]
	for i := range z {
		z[i] = max(max(a[i], b[i]), max(c[i], d[i]), max(e[i], f[i]))
	}
}

func setMax8(z, a, b, c, d, e, f, g, h []int64) {
	a, b, c, d, e, f, g, h = a[:len(z)], b[:len(z)], c[:len(z)], d[:len(z)], e[:len(z)], f[:len(z)], g[:len(z)], h[:len(z)]
	for i := range z {
		z[i] = max(max(max(a[i], b[i]), max(c[i], d[i])), max(max(e[i], f[i]), max(g[i], h[i])))
	}
}
