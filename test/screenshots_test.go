package test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// relaying writes a word to where a machine says, which nobody knows when they agree.
const relaying = `undersail: 1
about: {name: berth-relay, version: 1.0.0, title: Berth relay}
inputs:
  word: {secret: true, generate: true, title: Word of the relay}
resources:
  net: {type: network, want: {range: 10.63.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.63.0.0/26}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  relay: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, key_pair: =access.id, firewalls: ["=door.id"]}}
  berth: {type: task, want: {on: =relay.public_address, user: admin, key: =access.private_key, command: echo quay-7}, after: {relay: healthy}}
  tell: {type: task, want: {on: =relay.public_address, user: admin, key: =access.private_key, command: '="echo " + inputs.word + " > " + berth.output.trim()'}}
  front: {type: address, after: {berth: healthy}}
`

// TestScreenshots takes the pictures of the documentation from the demo data. It
// runs only when a folder for them is named.
func TestScreenshots(t *testing.T) {
	to := os.Getenv("UNDERSAIL_SCREENSHOTS")
	if to == "" {
		t.Skip("name a folder in UNDERSAIL_SCREENSHOTS to take pictures")
	}
	b := startAlone(t)
	p := b.browse()
	shot := func(name string) { p.shoot(filepath.Join(to, name+".png")) }
	p.open("/")
	p.signIn(b.password)
	p.sees("intake-trial", "Why intake-trial")
	shot("stacks")
	id := b.propose("intake-north", "gauge-intake", "--inputs", "examples/gauge-intake.inputs.yaml")
	p.open("/proposals/" + id)
	p.sees("What waits for what", "create")
	p.press("Apply")
	p.sees("What happened", "gateway is made and settling")
	p.sees("creating worker[1]")
	time.Sleep(2500 * time.Millisecond)
	shot("run")
	p.do(chromedp.EmulateViewport(1280, 800))
	p.sees("done")
	p.open("/stacks/intake-north")
	p.press("Verify now")
	p.sees("Outputs", "worker[1]")
	time.Sleep(time.Second)
	shot("stack")
	var lossy proposed
	b.into(&lossy, "propose", "readings-archive", "--input", "disk_type=solid-plus")
	p.open(fmt.Sprintf("/proposals/%d", lossy.ID))
	p.sees("lose-data", "What waits for what")
	time.Sleep(time.Second)
	shot("proposal-consent")
	var secrets proposed
	b.into(&secrets, "propose", "archive-trial", "--template", "tide-archive", "--account", "saltmere-lab", "--region",
		"north-fell", "--inputs", "examples/tide-archive.inputs.yaml")
	p.open(fmt.Sprintf("/proposals/%d", secrets.ID))
	p.sees("What secrets are opened for", "What waits for what")
	p.scrollsTo("What secrets are opened for")
	time.Sleep(time.Second)
	shot("proposal-uses")
	p.open("/runs/3")
	p.sees("Continue with what is missing")
	time.Sleep(time.Second)
	shot("run-failed")
	b.run("apply", b.propose("berth-relay", file(t, "relay.sail.yaml", relaying)), "--watch") // until it is parked
	var runs []struct {
		ID    int64
		Stack string
	}
	b.into(&runs, "runs")
	for _, r := range runs {
		if r.Stack == "berth-relay" {
			p.open(fmt.Sprintf("/runs/%d", r.ID))
			break
		}
	}
	p.sees("Look at what it asks", "berth")
	time.Sleep(time.Second)
	shot("run-waits")
	p.open("/library/gauge-intake")
	p.sees("best fit", "What it makes")
	time.Sleep(time.Second)
	shot("template")
	p.open("/library/gauge-intake/text")
	p.sees("it could be published", "Rendering")
	time.Sleep(time.Second)
	shot("text")
	p.open("/prepare/gauge-intake")
	p.sees("Name of the stack", "best fit")
	p.typeIn("#stack-name", "intake-south")
	p.clicks(`input[value="hollow-bay"]`)
	p.sees("hollow-bay", "kept")
	p.goes("Name and place")
	p.choose("zones", "hollow-bay-a")
	p.choose("zones", "hollow-bay-b")
	p.goes("Network")
	p.typeIn("#field-range", "10.62.0.0/20")
	p.clicks("#field-admin_sources")
	p.typeIn("#field-admin_sources", "0.0.0.0/0")
	p.sees("overlaps", "the whole world")
	time.Sleep(time.Second)
	shot("prepare-network")
	p.goes("Workers")
	p.clicks(`[data-field=workers] [aria-label=more]`)
	p.sees("cannot be spread evenly")
	time.Sleep(time.Second)
	shot("prepare")
	terminalShots(t, b, to)
}
