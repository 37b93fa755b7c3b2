package measure

// SetSums makes the first n entries of dst the sums of those of some sources, added one source after the other: (a + b) + c, so
// that sums of doubles are the same however many are read in one pass. Up to eight are, so that a sum is not stored and
// read again between them.
func SetSums[S any, T int64 | float64](dst []T, srcs []S, n int, of func(S) []T) {
	dst = dst[:n]
	switch len(srcs) {
	case 0:
		clear(dst)
		return
	case 1:
		copy(dst, of(srcs[0])[:n])
		return
	}
	a, b := of(srcs[0])[:n], of(srcs[1])[:n]
	for srcs = srcs[2:]; ; {
		switch {
		case len(srcs) >= 6:
			c, d, e, f, g, h := of(srcs[0])[:n], of(srcs[1])[:n], of(srcs[2])[:n], of(srcs[3])[:n], of(srcs[4])[:n], of(srcs[5])[:n]
			for i := range dst {
				dst[i] = a[i] + b[i] + c[i] + d[i] + e[i] + f[i] + g[i] + h[i]
			}
			srcs = srcs[6:]
		case len(srcs) >= 4:
			c, d, e, f := of(srcs[0])[:n], of(srcs[1])[:n], of(srcs[2])[:n], of(srcs[3])[:n]
			for i := range dst {
				dst[i] = a[i] + b[i] + c[i] + d[i] + e[i] + f[i]
			}
			srcs = srcs[4:]
		case len(srcs) >= 2:
			c, d := of(srcs[0])[:n], of(srcs[1])[:n]
			for i := range dst {
				dst[i] = a[i] + b[i] + c[i] + d[i]
			}
			srcs = srcs[2:]
		default:
			for i := range dst {
				dst[i] = a[i] + b[i]
			}
		}
		if len(srcs) == 0 {
			return
		}
		a, b, srcs = dst, of(srcs[0])[:n], srcs[1:]
	}
}

// setGreatest does so for the greatest.
func setGreatest[S any](dst []int64, srcs []S, n int, of func(S) []int64) {
	dst = dst[:n]
	a := of(srcs[0])[:n]
	if len(srcs) == 1 {
		copy(dst, a)
		return
	}
	for srcs = srcs[1:]; len(srcs) > 0; a = dst {
		b := of(srcs[0])[:n]
		// A source may be named again: the greatest stays what it is.
		c, d, e, f := b, b, b, b
		for k, at := range []*[]int64{&c, &d, &e, &f} {
			if k+1 < len(srcs) {
				*at = of(srcs[k+1])[:n]
			}
		}
		if len(srcs) <= 3 {
			for i := range dst {
				dst[i] = max(a[i], b[i], c[i], d[i])
			}
		} else {
			for i := range dst {
				dst[i] = max(max(a[i], b[i], c[i]), max(d[i], e[i], f[i]))
			}
		}
		srcs = srcs[min(5, len(srcs)):]
	}
}
