package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestPeoplePlace: on loopback nobody has to sign in until somebody adds the first keeper, by mouse and keyboard; from then on all do, in pages that are open already, too. Tokens,
// roles, codes and passwords change in the place People, and count at once.
func TestPeoplePlace(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	machine := browse(t, s.address+"/jobs")
	machine.shows("People")
	kit := browse(t, s.address+"/people")
	kit.shows("Nobody has to sign in")
	kit.press("Add somebody")
	kit.fill("Name", "kit")
	kit.press("Add")
	once := func(p *page) string { return value[string](p, `document.querySelector('[data-test=once]').innerText`) }
	kit.shows("Welcome, kit")
	kit.fill("Password", "kit counts gulls")
	kit.press("Choose it and sign in")
	kit.shows("kit, keeper")
	machine.shows("Sign in")
	if found := machine.violations(`['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'best-practice']`); found != "" {
		t.Errorf("of the page where one signs in axe says:\n%s", found)
	}
	machine.fill("Name", "kit")
	machine.fill("Password", "kit counts terns")
	machine.press("Sign in")
	machine.shows("Name and password do not belong together")

	kit.hit("the place People", `[...document.querySelectorAll('nav a')].find((e) => e.innerText === 'People')`)
	kit.press("Make a token")
	kit.fill("Name", "dashboard")
	kit.pick("What it may do", "reader")
	kit.press("Make it")
	kit.shows("Token dashboard may do what a reader may")
	token := once(kit)
	s.run("me", "--token", token).want(t, 0)
	s.run("connections", "--token", token).want(t, 1, "kit (token dashboard) may do what a reader may; this needs a right of the engineer; ask kit")
	kit.press("Revoke dashboard of kit")
	kit.press("Revoke")
	kit.shows("There are no tokens")
	s.run("jobs", "--token", token).want(t, 1, "the token is not known")

	kit.press("Add somebody")
	kit.fill("Name", "ena")
	kit.press("Add")
	kit.shows("ena chooses a password at this address")
	ena := browse(t, once(kit))
	ena.shows("You are a reader")
	ena.fill("Password", "ena counts gulls")
	ena.press("Choose it and sign in")
	ena.shows("ena, reader")
	ena.hit("the place People", `[...document.querySelectorAll('nav a')].find((e) => e.innerText === 'People')`)
	ena.shows("For more, ask kit")
	kit.pick("Role of ena", "engineer")
	kit.shows("changePerson")
	ena.do(chromedp.Navigate(s.address + "/people"))
	ena.shows("ena, engineer")
	ena.press("Choose another password")
	ena.fill("The one of now", "ena counts gulls")
	ena.fill("Another one, of at least 12 characters", "ena counts terns")
	ena.press("Choose it")
	eventually(t, 10*time.Second, "the dialog is gone", func() bool { return !strings.Contains(ena.text(), "The one of now") })
	ena.press("Sign out")
	ena.shows("Sign in")
	ena.fill("Name", "ena")
	ena.fill("Password", "ena counts terns")
	ena.enter()
	ena.shows("ena, engineer")

	kit.press("Give ena another code")
	kit.press("Give another code")
	kit.shows("ena chooses a password at this address")
	ena.shows("Sign in")
	kit.press("Remove ena")
	kit.press("Remove")
	kit.shows("1 may sign in")
	kit.fill("Of whom", "ena")
	kit.shows("changePassword")
	if text := kit.text(); strings.Contains(text, "addPerson") {
		t.Errorf("the trail of ena alone has more:\n%s", text)
	}
}
