package e2e

import (
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

func shot(t *testing.T, p *page, name string) {
	time.Sleep(800 * time.Millisecond)
	b, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile("/tmp/shots/"+name+".png", b, 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestZZ(t *testing.T) {
	os.MkdirAll("/tmp/shots", 0o755)
	p := browse(t, "http://127.0.0.1:7400/jobs/ordered-and-lifted")
	p.shows("met none")
	p.choose("met")
	shot(t, p, "join")
	p = browse(t, "http://127.0.0.1:7400/jobs/lifts-at-berths")
	p.shows("berths")
	p.choose("berths")
	shot(t, p, "reference")
	p.choose("placed")
	shot(t, p, "lookup")
	p = browse(t, "http://127.0.0.1:7400/build?job=ordered-and-lifted")
	p.shows("no mistakes")
	p.choose("met")
	shot(t, p, "build-join")
	p = browse(t, "http://127.0.0.1:7400/build?job=lifts-at-berths")
	p.shows("no mistakes")
	p.choose("placed")
	shot(t, p, "build-lookup")
	p.choose("berths")
	shot(t, p, "build-reference")
}
