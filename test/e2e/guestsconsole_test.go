package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The owner invites on the workspace's page; the guest finds the workspace among their own, looks at a
// terminal in the size that it has there, types in it when that is allowed, and is out when it is over.
func TestAGuestInTheConsole(t *testing.T) {
	t.Parallel()
	source := publish(t, "pantry", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "pantry").status)
	jo := anotherPerson(t, "jo")
	owner, guest := openBrowser(t), openBrowser(t)
	owner.signIn(skipper)
	guest.signIn(jo)
	guest.shows("Your workspaces will hang here")

	owner.does(chromedp.Navigate(world.Service.URL+"/workspaces/pantry"), see("#guests"), fill("[aria-label='Whom to invite']", "jo"))
	owner.accessible("the workspace with its guests")
	owner.button("Invite")
	owner.shows("has not come yet")
	owner.picture("guests")
	guest.shows("Where you are a guest") // without reloading
	guest.accessible("where one is a guest")
	guest.picture("as-guest")
	guest.button("pantry")
	guest.shows("None yet. One that skipper opens appears here by itself.")

	own := openTerminal(t, "pantry", "shelf")
	own.typed("stty rows 17 cols 60; echo flour and yea''st\n")
	own.expect("flour and yeast")
	guest.does(see("[aria-label='Look at the terminal shelf']"))
	guest.accessible("a guest's page")
	guest.picture("guest")
	guest.button("Look")
	guest.does(see("[data-terminal-status=connected]"))
	guest.shows("flour and yeast")
	guest.does(click(".xterm"), chromedp.KeyEvent("echo poi''son\r"))
	own.typed("echo and sa''lt; stty size\n")
	own.expect("17 60")
	assert.NotContains(t, own.seen, "poi")
	guest.shows("and salt")
	guest.picture("guest-looks")

	require.Equal(t, 0, skipper.domicile(t, "invite", "pantry", "jo", "-may", "type").status)
	guest.does(chromedp.Navigate(world.Service.URL + "/guest/pantry~skipper"))
	guest.shows("pantry~skipper@")
	guest.picture("guest-types")
	guest.does(click("[aria-label='Type in the terminal shelf']"), see("[data-terminal-status=connected]"))
	guest.does(chromedp.KeyEvent("echo from jo with lo''ve\r"))
	own.expect("from jo with love")
	owner.shows("came just now")

	owner.does(click("[aria-label='End the invitation of jo']"))
	guest.shows("connection lost")
	guest.does(chromedp.Navigate(world.Service.URL + "/guest/pantry~skipper"))
	guest.shows("You are not invited there, or no more")
}
