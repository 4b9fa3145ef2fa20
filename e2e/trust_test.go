package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/store/storetest"
)

// A new person is given a link, chooses a password, sets up a second factor,
// signs in with both, and all of it stands in the trail.
func TestComingIn(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password), s.Go(s.srv.URL+"/set-up/people"),
		s.Until("the people", "document.querySelector('[data-person]')"),
		s.Fill("Name", "Sunniva Lie"), s.Fill("E-mail", "viewer@skerry.example"), s.Click("Let them sign in"),
		s.Reads("somebody has that address already"),
		s.Fill("E-mail", "sunniva@skerry.example"), s.Click("Let them sign in"),
		s.Until("the link", "document.querySelector('[data-link]')"), s.Reads("no password yet"),
	)
	link := s.text("[data-link]")
	s.do(
		s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
		s.Go(link), s.Fill("New password", "password1234"), s.Fill("The same again", "password1234"), s.Click("Set the password"),
		s.Reads("tried first"),
		s.Fill("New password", "rope and anchor chain"), s.Click("Set the password"), s.Reads("That is not the same"),
		s.Fill("The same again", "rope and anchor chain"), s.Click("Set the password"), s.Reads("Your password is set"),
		s.Fill("E-mail", "sunniva@skerry.example"), s.Fill("Password", "rope and anchor chain"), s.Click("Sign in"),
		s.ClickOn("footer a", "Sunniva Lie"), s.Reads("by password alone"),
		s.ClickOn("form[aria-label='Second factor'] button", "Set it up"),
		s.Fill("Your password", "not my password"), s.ClickOn("form[aria-label='Second factor'] button", "Set it up"),
		s.Reads("that is not your password"),
		s.Fill("Your password", "rope and anchor chain"), s.ClickOn("form[aria-label='Second factor'] button", "Set it up"),
		s.Until("the secret and its picture", "document.querySelector('[data-secret]') && document.querySelector('img').naturalWidth === 232"),
	)
	secret := strings.ReplaceAll(s.text("[data-secret]"), " ", "")
	code := func(after time.Duration) string {
		c, err := totp.GenerateCode(secret, storetest.Now().Add(after))
		s.do(err)
		return c[:3] + " " + c[3:]
	}
	s.do(
		s.Fill("The code it shows now", "000000"), s.Click("Turn it on"), s.Reads("that is not the code it shows now"),
		s.Fill("The code it shows now", code(0)), s.Click("Turn it on"),
		s.Until("recovery codes", "document.querySelector('[data-recovery]')?.innerText.trim().split('\\n').length === 10"),
	)
	recovery, _, _ := strings.Cut(strings.TrimSpace(s.text("[data-recovery]")), "\n")
	s.do(
		s.Click("I have kept them"), s.Reads("10 of the recovery codes are left"),
		s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
		s.Fill("E-mail", "sunniva@skerry.example"), s.Fill("Password", "rope and anchor chain"), s.Click("Sign in"),
		s.Reads("Now the code of your second factor is needed"),
		s.Fill("Code", "111 111"), s.Click("Sign in"), s.Reads("The code is wrong or was used"),
		s.Fill("Code", recovery), s.Click("Sign in"), s.Reads("Standing"),
		s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
		s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/set-up/trail"), s.Until("the trail", "document.querySelectorAll('[data-trail]').length > 5"),
		s.Reads("set second factor"), s.Reads("sign-in refused"),
		s.ClickOn("[data-trail] button", "Sunniva Lie"), s.Until("hers alone",
			"[...document.querySelectorAll('[data-trail]')].every((r) => r.innerText.includes('Sunniva Lie'))"),
		s.ClickOn("[data-trail] button", "more"), s.Reads("second_factor"),
	)
	filter, err := browser.Eval[string](s.Browser, "location.search")
	s.do(err)
	if !strings.HasPrefix(filter, "?who=") {
		t.Errorf("the filter is not in the address: %s", filter)
	}
}

// Whoever has no second factor where everybody needs one can set one up, and nothing else.
func TestASecondFactorForEverybody(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "viewer@skerry.example", demo.Password), s.Until("Standing", "document.querySelector('[data-agreement]')"))
	_, err := s.srv.API.Store.Exec(t.Context(), "UPDATE organisation SET second_factor_required = true")
	s.do(err)
	s.do(
		s.Go(s.srv.URL+"/services"), s.Reads("Everybody needs a second factor here"),
		s.Until("no other page", "location.pathname === '/you'"),
		s.ClickOn("nav a", "Standing"), s.Reads("Everybody needs a second factor here"),
	)
}
