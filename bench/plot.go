package main

import (
	"bytes"
	"fmt"
	"math"
	"os"
)

// ratio is a line of the table as the plot shows it.
type ratio struct {
	name             string
	least, mid, most float64
	reach            float64 // what it is to be; 0 for nothing
}

// drawRatios writes the plot of all ratios with their ranges (docs/speed.md).
func drawRatios(path string, ratios []ratio) error {
	const width, left, right, top, line = 940, 450, 24, 52, 22
	const least, most = 0.125, 4.0
	height := top + line*len(ratios) + 46
	x := func(v float64) float64 {
		v = min(max(v, least), most)
		return left + (width-left-right)*math.Log(v/least)/math.Log(most/least)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="12" fill="#1d2a2d"><rect width="%[1]d" height="%[2]d" fill="#fffdf6"/>`, width, height)
	bottom := top + line*len(ratios)
	for _, v := range []float64{0.125, 0.25, 0.5, 1, 2, 4} {
		colour := "#d9d2bf"
		if v == 1 {
			colour = "#1d2a2d"
		}
		fmt.Fprintf(&b, `<path d="M%.1[1]f %[2]dV%[3]d" stroke="%[4]s"/><text x="%.1[1]f" y="%[5]d" text-anchor="middle">%[6]v</text>`, x(v), top-12, bottom, colour, bottom+16, v)
	}
	fmt.Fprintf(&b, `<text x="%.1f" y="%d" text-anchor="middle">speed, of the loop by hand or what is named: right of 1 is faster</text>`, float64(left+width-right)/2, bottom+36)
	fmt.Fprintf(&b, `<circle cx="%d" cy="16" r="4" fill="#1f6f62"/><text x="%d" y="20">median</text><path d="M%d 16h28" stroke="#1f6f62" stroke-width="2"/><text x="%d" y="20">range</text><path d="M%d 10v12" stroke="#b3472c" stroke-width="2"/><text x="%d" y="20">to be reached</text>`,
		left, left+9, left+70, left+104, left+160, left+167)
	for i, r := range ratios {
		y := float64(top + line*i + line/2)
		fmt.Fprintf(&b, `<text x="%[1]d" y="%.1[2]f" text-anchor="end">%[3]s</text><path d="M%.1[4]f %.1[5]fH%.1[6]f" stroke="#1f6f62" stroke-width="2"/><circle cx="%.1[7]f" cy="%.1[5]f" r="4" fill="#1f6f62"/>`, left-12, y+4, r.name, x(r.least), y, x(r.most), x(r.mid))
		if r.reach > 0 {
			fmt.Fprintf(&b, `<path d="M%.1f %.1fv12" stroke="#b3472c" stroke-width="2"/>`, x(r.reach), y-6)
		}
	}
	b.WriteString("</svg>\n")
	return os.WriteFile(path, b.Bytes(), 0o644)
}
