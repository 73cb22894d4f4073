package proposing_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"undersail/internal/access"
	"undersail/internal/core/lang"
	"undersail/internal/exchange"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

// TestAKeyPairIsMadeForADraft draws one, takes the public half of another, and finds a
// name however long that of the input is.
func TestAKeyPairIsMadeForADraft(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Sells()
	ctx := context.Background()
	long := "key_of_" + strings.Repeat("the_harbour_master_", 4) + "x"
	source := fmt.Sprintf("undersail: 1\nabout: {name: gate, version: 1.0.0, title: Gate}\ninputs:\n  door: {picks: "+
		"key_pair}\n  %s: {picks: key_pair, optional: true}\nresources:\n  a: {type: key_pair, want: {public_key: "+
		"=inputs.door}}\n", long)
	d, err := b.Service.Proposing.AddDraft(ctx, b.Rig.Admin, proposing.NewProposal{
		Stack:  "gate",
		File:   "gate.sail.yaml",
		Source: source,
	})
	if err != nil {
		t.Fatal(err)
	}
	if d, err = b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, "door", proposing.DraftSecret{}); err != nil ||
		d.Body.Inputs["door"] != "key:gate-door" || d.Answer.Errors != 0 {
		t.Fatalf("drawn: %+v %v", d.Body, err)
	}
	made, err := b.Service.Secrets.Show(ctx, "gate-door")
	if err != nil || made.Kind != "key_pair" {
		t.Fatalf("%+v %v", made, err)
	}
	if d, err = b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, "door", proposing.DraftSecret{
		Public: made.Public,
	}); err != nil || d.Body.Inputs["door"] != "key:gate-door-2" {
		t.Errorf("one of one's own: %+v %v", d.Body, err)
	}
	if own, err := b.Service.Secrets.Show(ctx, "gate-door-2"); err != nil || own.Kind != "public_key" {
		t.Errorf("only its public half is here: %+v %v", own, err)
	}
	_, err = b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, "door", proposing.DraftSecret{
		Public: "ssh-rubbish AAAA",
	})
	servicetest.WantKind(t, err, refusal.Invalid, "")
	if d, err = b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, long, proposing.DraftSecret{}); err != nil ||
		!strings.HasPrefix(fmt.Sprint(d.Body.Inputs[long]), "key:gate-key-of-the-harbour") {
		t.Errorf("a long name: %+v %v", d.Body, err)
	}
}

const vaultSource = `undersail: 1
about: {name: vault, version: 1.0.0, title: Vault, from: site@1.0.0}
inputs:
  size: {picks: size, needs: {vcpus: 2}, default: plain-2, page: Machine}
  zone: {picks: zone, optional: true, page: Machine}
  range: {type: string, format: cidr, default: 10.71.0.0/24, page: Network}
  word: {secret: true, rules: {length: 10, classes: 2, forbid: [kelp]}, page: Access, title: Word}
presets:
  large: {title: Large, text: For a storm., inputs: {size: plain-4}}
require:
  - {that: '=inputs.range != "10.99.0.0/24"', else: That range is the harbour's.}
resources:
  net: {type: network, want: {range: =inputs.range}}
  lan: {type: subnet, want: {network: =net.id, range: '=carve(inputs.range, ["lan/26"]).lan'}}
  vault:
    type: instance
    want: {size: =inputs.size, image: debian-12, subnet: =lan.id, user_data: {write_files: [{path: /etc/word, content: =inputs.word}]}}
guide: The vault stands at {=vault.private_address}.
`

// TestADraftIsPreparedAndProposed goes the way of a form: the place that fits best, fields
// with what they are, a secret that is sealed at once, and a proposal that ends the draft.
func TestADraftIsPreparedAndProposed(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Sells()
	ctx := context.Background()
	d, err := b.Service.Proposing.AddDraft(ctx, b.Rig.Admin, proposing.NewProposal{
		Stack:  "vault",
		File:   "vault.sail.yaml",
		Source: vaultSource,
	})
	if err != nil || d.Answer == nil {
		t.Fatalf("%+v %v", d, err)
	}
	a := d.Answer
	if !a.New || a.Title != "Vault" || len(a.Pages) != 3 || a.Pages[2].Missing != 1 || a.Pages[2].Errors != 0 ||
		a.Totals.Machines != 1 || a.Totals.Resources != 3 || len(a.Presets) != 1 ||
		a.Presets[0].Inputs["size"] != "plain-4" {
		t.Errorf("the answer: %+v", a)
	}
	if !strings.Contains(a.Guide, "The vault stands at ...") {
		t.Errorf("the guide: %q", a.Guide)
	}
	size, word := a.Pages[0].Fields[0], a.Pages[2].Fields[0]
	if size.Default != "plain-2" || size.Needs == nil || size.Needs.VCPUs != 2 || word.Rules == nil ||
		!strings.Contains(word.RuleWords, "at least 10 characters") || !word.Secret {
		t.Errorf("the fields: %+v %+v", size, word)
	}
	n := a.Networks
	if len(n) != 1 || n[0].Range != "10.71.0.0/24" || n[0].Pieces[0].Name != "lan" || n[0].Pieces[0].Share != 0.25 ||
		len(n[0].Next) == 0 {
		t.Errorf("the addresses: %+v", n)
	}

	// A value is no part of a draft; it is sealed, or it is refused for what it breaks.
	_, err = b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, d.Revision,
		json.RawMessage(`{"inputs": {"word": "Shingle-and-sand"}}`), "")
	servicetest.WantKind(t, err, refusal.Invalid, "holds no secrets")
	if broken, err := b.Service.Proposing.TrySecret(ctx, b.Rig.Admin, d.ID, "word", proposing.DraftSecret{
		Value: "kelp",
	}); err != nil || len(broken) != 4 {
		t.Errorf("what it breaks: %v %v", broken, err)
	}
	_, err = b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, "word", proposing.DraftSecret{Value: "kelp"})
	servicetest.WantKind(t, err, refusal.Invalid, "breaks the rules of input word")
	_, err = b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, "size", proposing.DraftSecret{Value: "x"})
	servicetest.WantKind(t, err, refusal.Invalid, "is no secret")
	_, err = b.Service.Proposing.SealForDraft(ctx, people.User{Name: "ada", Roles: []string{"viewer"}}, d.ID, "word",
		proposing.DraftSecret{Value: "Shingle-and-sand"})
	servicetest.WantKind(t, err, refusal.Forbidden, "")
	if d, err = b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, "word", proposing.DraftSecret{
		Value: "Shingle-and-sand",
	}); err != nil || d.Body.Inputs["word"] != "secret:vault-word" || d.Answer.Errors != 0 {
		t.Fatalf("sealed: %+v %v", d, err)
	}
	if again, err := b.Service.Proposing.SealForDraft(ctx, b.Rig.Admin, d.ID, "word",
		proposing.DraftSecret{}); err != nil || again.Body.Inputs["word"] != "secret:vault-word-2" {
		t.Errorf("another, drawn: %+v %v", again.Body, err)
	} else {
		d = again
	}
	places, err := b.Service.Proposing.DraftPlaces(ctx, b.Rig.Admin, d.ID)
	if err != nil || len(places) != 1 || len(places[0].Variants) != 5 || places[0].Best == "" || places[0].Why == "" {
		t.Errorf("places: %+v %v", places, err)
	}
	presets, err := b.Service.Proposing.DraftPresets(ctx, b.Rig.Admin, d.ID)
	if err != nil || len(presets.Variants) != 2 || presets.Variants[1].Cost.Month <= presets.Variants[0].Cost.Month ||
		len(presets.Variants[0].Errors) != 0 {
		t.Errorf("presets: %+v %v", presets, err)
	}
	zones, err := b.Service.Proposing.DraftChoices(ctx, b.Rig.Admin, d.ID, "zone")
	if err != nil || len(zones) == 0 || len(zones[0].Holds) == 0 {
		t.Errorf("zones: %+v %v", zones, err)
	}
	given, err := b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, d.Revision,
		json.RawMessage(`{"inputs": {"size": "plain-2"}}`), "")
	if err != nil {
		t.Fatal(err)
	}
	if presets, err = b.Service.Proposing.DraftPresets(ctx, b.Rig.Admin, d.ID); err != nil ||
		presets.Variants[1].Cost.Month != presets.Variants[0].Cost.Month {
		t.Errorf("what is given lies above a preset: %+v %v", presets, err)
	}
	d = given
	// What a requirement refuses is told at the inputs that it reads.
	wrong, err := b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, d.Revision,
		json.RawMessage(`{"inputs": {"range": "10.99.0.0/24"}}`), "")
	if err != nil || wrong.Answer.Pages[1].Errors != 1 ||
		wrong.Answer.Pages[1].Fields[0].Findings[0].Code != "require" {
		t.Errorf("the requirement: %+v %v", wrong.Answer.Pages, err)
	}
	_, err = b.Service.Proposing.ProposeDraft(ctx, b.Rig.Admin, d.ID, d.Revision)
	servicetest.WantKind(t, err, refusal.Stale, "has revision")
	_, err = b.Service.Proposing.ProposeDraft(ctx, b.Rig.Admin, d.ID, wrong.Revision)
	servicetest.WantKind(t, err, refusal.Findings, "")
	right, err := b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, wrong.Revision,
		json.RawMessage(`{"inputs": {"range": null}}`), "")
	if err != nil {
		t.Fatal(err)
	}
	p, err := b.Service.Proposing.ProposeDraft(ctx, b.Rig.Admin, d.ID, right.Revision)
	if err != nil || p.Summary != "3 create" {
		t.Fatalf("proposed: %+v %v", p, err)
	}
	_, err = b.Service.Proposing.Draft(ctx, b.Rig.Admin, d.ID, "")
	servicetest.WantKind(t, err, refusal.NotFound, "")

	// The proposal becomes a draft again, secret and all, to be changed.
	back, err := b.Service.Proposing.DraftOfProposal(ctx, b.Rig.Admin, p.ID)
	if err != nil || back.Body.Inputs["word"] != "secret:vault-word-2" || back.Answer.Errors != 0 ||
		back.Body.Region != p.Region {
		t.Errorf("back in a draft: %+v %v", back, err)
	}
}

// TestADraftThatNamesAStackTakesItsPlace gives a draft the name of a stack that is there
// somewhere else, and then another name.
func TestADraftThatNamesAStackTakesItsPlace(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Sells()
	ctx := context.Background()
	source := servicetest.Source(servicetest.NetLine, servicetest.LanLine)
	b.Apply("coast", source)
	d, err := b.Service.Proposing.AddDraft(ctx, b.Rig.Admin, proposing.NewProposal{
		Stack:   "",
		File:    "f.sail.yaml",
		Source:  source,
		Account: "saltmere-lab",
		Region:  "quarry-hill",
	})
	if err != nil {
		t.Fatal(err)
	}
	if d, err = b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, d.Revision,
		json.RawMessage(`{"stack": "coast"}`), ""); err != nil || d.Answer == nil || d.Answer.New ||
		d.Answer.Region != "north-fell" {
		t.Fatalf("named like a stack: %+v %v", d, err)
	}
	if same, err := b.Service.Proposing.DraftPresets(ctx, b.Rig.Admin, d.ID); err != nil || len(same.Variants) != 1 ||
		same.Variants[0].Region != "north-fell" {
		t.Errorf("compared where it stands: %+v %v", same, err)
	}
	if d, err = b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, d.Revision,
		json.RawMessage(`{"stack": "shore"}`), ""); err != nil || d.Answer == nil || !d.Answer.New ||
		d.Body.Region == "" {
		t.Errorf("named anew: %+v %v", d, err)
	}
}

// TestAProposalThatWentStaleIsMadeAgain proposes what a proposal said, after another run
// made it stale.
func TestAProposalThatWentStaleIsMadeAgain(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	wider := servicetest.Source(servicetest.NetLine, servicetest.LanLine)
	first, second := b.Propose("coast", wider), b.Propose("coast", wider)
	b.Done(second)
	_, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, first.ID, nil, "")
	servicetest.WantKind(t, err, refusal.Stale, "propose again")
	again, err := b.Service.Proposing.Renew(ctx, b.Rig.Admin, first.ID)
	if err != nil || again.State != proposing.Nothing {
		t.Errorf("what is there already is proposed: %+v %v", again, err)
	}
	third := b.Propose("coast", servicetest.Source(servicetest.NetLine))
	if again, err = b.Service.Proposing.Renew(ctx, b.Rig.Admin, third.ID); err != nil || again.ID <= third.ID ||
		again.Summary != third.Summary {
		t.Errorf("again: %+v %v", again, err)
	}
	retire, err := b.Service.Proposing.Retire(ctx, b.Rig.Admin, "coast")
	if err != nil {
		t.Fatal(err)
	}
	_, err = b.Service.Proposing.Renew(ctx, b.Rig.Admin, retire.ID)
	servicetest.WantKind(t, err, refusal.Conflict, "begin where you began")
	p, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, retire.ID, nil, "after the spring tide")
	if err != nil || p.Why != "after the spring tide" {
		t.Errorf("the comment is %q (%v)", p.Why, err)
	}
}

// TestATextIsCheckedAsItIsWritten asks about texts of which nothing is published.
func TestATextIsCheckedAsItIsWritten(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	c, err := b.Service.Templates.CheckText(ctx, lang.Bundle{
		File:   "vault.sail.yaml",
		Source: vaultSource + "   \n\n\n",
	})
	if err != nil || !c.Sound || c.Name != "vault" || c.From != "site@1.0.0" || len(c.Inputs) != 4 ||
		len(c.Resources) != 3 || c.Resources[2].Type != "instance" || c.Tidied == "" {
		t.Errorf("a sound text: %+v %v", c, err)
	}
	c, err = b.Service.Templates.CheckText(ctx, lang.Bundle{
		File:   "x.sail.yaml",
		Source: strings.Replace(vaultSource, "=net.id", "=net.idd", 1),
	})
	if err != nil || c.Sound || len(c.Diagnostics) == 0 || c.Diagnostics[0].Line == 0 ||
		!strings.Contains(c.Diagnostics[0].Message, "idd") {
		t.Errorf("a faulty text: %+v %v", c, err)
	}
	for _, source := range []string{"", "undersail: 1", "{", strings.Repeat("a: ", 2000)} {
		c, err := b.Service.Templates.CheckText(ctx, lang.Bundle{File: "x.sail.yaml", Source: source})
		if err != nil || c.Sound {
			t.Errorf("%.20q is sound: %v", source, err)
		}
	}
	started, err := b.Service.Templates.StartText(exchange.Starter{
		Name:  "tide-board",
		With:  []string{"public"},
		Tiers: []exchange.Tier{{Name: "store", Machines: 2, Port: 5432}},
	})
	if err != nil {
		t.Fatal(err)
	}
	if c, err := b.Service.Templates.CheckText(ctx, started); err != nil || !c.Sound {
		t.Errorf("what was begun: %+v %v", c, err)
	}
	_, err = b.Service.Templates.StartText(exchange.Starter{Name: "Tide"})
	servicetest.WantKind(t, err, refusal.Invalid, "no name of a template")
	l := b.Service.Templates.Language()
	sections, _ := l.Schema["properties"].(map[string]any)
	if len(sections) < 8 || len(l.Functions) < 10 || len(l.Types) < 20 {
		t.Errorf("the language: %d sections, %d functions, %d types", len(sections), len(l.Functions), len(l.Types))
	}
	for version, text := range map[string]string{
		"1.0.0": vaultSource,
		"1.1.0": strings.NewReplacer("version: 1.0.0", "version: 1.1.0", "default: plain-2",
			"default: plain-4").Replace(vaultSource),
	} {
		_, _, err := b.Service.Templates.Publish(ctx, b.Rig.Admin, lang.Bundle{File: "vault.sail.yaml", Source: text})
		if err != nil {
			t.Fatal(version, err)
		}
	}
	list, err := b.Service.Templates.TemplateDifferences(ctx, "vault@1.1.0", "1.0.0")
	if err != nil || !strings.Contains(fmt.Sprint(list), "inputs.size.default") {
		t.Errorf("the differences: %+v %v", list, err)
	}
	if kept, err := b.Service.Templates.Find(ctx, "vault"); err != nil || kept.From != "site@1.0.0" {
		t.Errorf("where it comes from: %+v %v", kept.From, err)
	}
	_, err = b.Service.Templates.TemplateDifferences(ctx, "vault@1.1.0", "9.0.0")
	servicetest.WantKind(t, err, refusal.NotFound, "")
}

// TestADraftGetsThePlaceThatItsOwnerMayUse: the best one among those where they may operate,
// as soon as a cloud tells what it sells, and of a stack that is there its own.
func TestADraftGetsThePlaceThatItsOwnerMayUse(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	drafts := b.Service.Proposing
	n := proposing.NewProposal{File: "coast.sail.yaml", Source: servicetest.Source(servicetest.NetLine)}
	lab := b.Rig.Person("lab", "operator@saltmere-lab")
	within := access.Within(context.Background(), []string{"saltmere-lab"})
	looks := b.Rig.Person("looks", "viewer@saltmere-lab", "operator@saltmere-live")

	b.Rig.Fault(world.Fault{Kind: "credentials-end", Count: -1})
	d, err := drafts.AddDraft(within, lab, n)
	if err != nil || d.Body.Account != "" || d.Answer != nil || d.Problem == "" {
		t.Fatalf("while no cloud tells what it sells: %+v %v", d, err)
	}
	if same, err := drafts.Draft(within, lab, d.ID, ""); err != nil || same.ID != d.ID {
		t.Errorf("their own draft without a place: %+v %v", same, err)
	}
	if list, err := drafts.Drafts(within, lab); err != nil || len(list) != 1 {
		t.Errorf("their own drafts: %v %v", list, err)
	}
	b.Rig.Lift()
	b.Sells()
	d, err = drafts.ChangeDraft(within, lab, d.ID, d.Revision, json.RawMessage(`{"inputs": {}}`), "")
	if err != nil || d.Body.Account != "" {
		t.Errorf("what says nothing of the place waits for no cloud: %+v %v", d, err)
	}
	d, err = drafts.ChangeDraft(within, lab, d.ID, d.Revision, json.RawMessage(`{"account": null}`), "")
	if err != nil || d.Body.Account != "saltmere-lab" || d.Body.Region == "" || d.Answer == nil {
		t.Errorf("as soon as it does: %+v %v", d, err)
	}
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	if d, err = drafts.AddDraft(within, lab, proposing.NewProposal{Stack: "coast"}); err != nil || d.Answer == nil ||
		d.Answer.New {
		t.Errorf("of a stack that is there: %+v %v", d, err)
	}
	if d, err = drafts.AddDraft(context.Background(), looks, n); err != nil || d.Body.Account != "" {
		t.Errorf("where they may only look: %+v %v", d, err)
	}
	n.Stack = "coast"
	_, err = drafts.AddDraft(context.Background(), looks, n)
	servicetest.WantKind(t, err, refusal.Forbidden, "the right to operate in account saltmere-lab")
}
