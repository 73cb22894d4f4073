package change

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// coast is a stack that is there: every resource has the id id-NAME.
const coast = `undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs:
  one: {type: string, default: 10.0.1.0/24}
  two: {type: string, default: 10.0.2.0/24}
  range: {type: string, default: 10.0.0.0/16}
  size: {type: string, default: plain-2}
  hosts: {type: integer, default: 3}
  boot: {type: string, default: first}
  door: {type: boolean, default: true}
resources:
  net: {type: network, want: {range: =inputs.range}}
  one: {type: subnet, want: {network: =net.id, range: =inputs.one}}
  two: {type: subnet, want: {network: =net.id, range: =inputs.two}}
  door: {type: firewall, when: =inputs.door, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: 22}]}}
  data: {type: disk, want: {size: 10GiB, type: solid}}
  host:
    type: instance
    repeat: =inputs.hosts
    rebuild: CONDUCT
    want:
      size: =inputs.size
      image: i
      subnet: =one.id
      firewalls: '=inputs.door ? [door.id.orValue("")] : []'
      user_data: {hostname: =inputs.boot}
  desk:
    type: instance
    want:
      {size: plain-2, image: i, subnet: =two.id, disks: [{disk: =data.id}], user_data: {hostname: =inputs.boot}}
`

func read(t *testing.T, conduct string) *lang.Template {
	t.Helper()
	template, found := lang.Read("t", []byte(strings.Replace(coast, "CONDUCT", conduct, 1)))
	if template == nil {
		t.Fatal(found)
	}
	return template
}

// there is what is recorded once a plan was carried out: what waited for an id has it.
func there(p Plan) []Recorded {
	var out []Recorded
	for _, r := range p.Rendering.Resources {
		var after []string
		for _, a := range r.After {
			after = append(after, a.Name)
		}
		out = append(out, Recorded{
			Name:       r.Name,
			Type:       r.Type,
			Declared:   r.Declared,
			Want:       made(plain(r.Want)).(map[string]any),
			Attributes: map[string]any{"id": "id-" + r.Name},
			Healthy:    true,
			After:      after,
		})
	}
	return out
}

func made(v any) any {
	switch t := v.(type) {
	case map[string]any:
		if waits, ok := t["pending"].([]any); ok {
			return "id-" + strings.TrimSuffix(fmt.Sprint(waits[0]), ".id")
		}
		for k, x := range t {
			t[k] = made(x)
		}
	case []any:
		for i, x := range t {
			t[i] = made(x)
		}
	}
	return v
}

func planned(template *lang.Template, recorded []Recorded, inputs map[string]any, offers offer.Everywhere) Plan {
	return Compute(budget.Boundless(),
		render.Request{Template: template, Stack: render.Stack{Name: "s"}, Inputs: inputs}, recorded).Ordered(recorded,
		offers)
}

// before reports whether one action comes before another, directly or not.
func (p Plan) before(first, then string) bool {
	at := func(name string) int {
		return slices.IndexFunc(p.Actions, func(a Action) bool { return string(a.Do)+" "+a.Resource == name })
	}
	from, to := at(then), at(first)
	if from < 0 || to < 0 {
		return false
	}
	o := &ordering{actions: p.Actions}
	return o.restsOn(from, to)
}

func (p Plan) found(code string) (messages []string) {
	for _, f := range p.Findings {
		if f.Code == code {
			messages = append(messages, f.Message)
		}
	}
	return messages
}

func TestOrderOfChanges(t *testing.T) {
	t.Parallel()
	oldFirst := read(t, "old_first")
	stack := there(planned(oldFirst, nil, nil, offer.Everywhere{}))
	for _, c := range []struct {
		about  string
		inputs map[string]any
		orders [][2]string
	}{
		{"subnets trade ranges", map[string]any{"one": "10.0.2.0/24", "two": "10.0.1.0/24"},
			[][2]string{
				{"remove one", "create two"},
				{"remove two", "create one"},
				{"remove host[0]", "remove one"},
				{"remove desk", "remove two"},
				{"create one", "create host[0]"},
			}},
		{"a network shrinks around its subnets", map[string]any{"range": "10.0.0.0/17"},
			[][2]string{{"remove one", "remove net"}, {"remove net", "create net"}, {"remove desk", "create net"}}},
		{"a firewall goes after the machines let go of it", map[string]any{"door": false},
			[][2]string{{"alter host[0]", "remove door"}, {"alter host[2]", "remove door"}}},
		{"fewer machines", map[string]any{"hosts": int64(1), "one": "10.0.3.0/24"},
			[][2]string{{"remove host[2]", "remove one"}, {"remove host[1]", "remove one"}}},
	} {
		p := planned(oldFirst, stack, c.inputs, offer.Everywhere{})
		for _, o := range c.orders {
			if !p.before(o[0], o[1]) {
				t.Errorf("%s: %s does not come before %s: %+v", c.about, o[0], o[1], p.Actions)
			}
		}
		if bad := p.found("no-order"); bad != nil {
			t.Errorf("%s: %v", c.about, bad)
		}
	}
}

func TestTheNewOneComesFirstWhereNothingForbidsIt(t *testing.T) {
	t.Parallel()
	newFirst := read(t, "new_first")
	stack := there(planned(newFirst, nil, nil, offer.Everywhere{}))
	p := planned(newFirst, stack, map[string]any{"boot": "second"}, offer.Everywhere{})
	if !p.before("create host[0]", "remove host[0] (old)") || p.of("host[0]").Old != "host[0] (old)" {
		t.Errorf("%+v", p.Actions)
	}
	if p.of("desk").Old != "" || !p.before("remove desk", "create desk") {
		t.Errorf("nobody asked it of the desk: %+v", p.of("desk"))
	}
	// Where its subnet has to go first, so has the machine, and that is said.
	p = planned(newFirst, stack, map[string]any{"one": "10.0.0.0/23"}, offer.Everywhere{})
	if p.of("host[0]").Old != "" || !p.before("remove host[0]", "remove one") || len(p.found("old-first")) != 3 ||
		!strings.Contains(p.found("old-first")[0], "one, which it uses, has to go first") {
		t.Errorf("%v", p.Findings)
	}
	// Where it need not, the subnet too is made anew first.
	p = planned(newFirst, stack, map[string]any{"one": "10.0.9.0/24"}, offer.Everywhere{})
	if p.of("one").Old != "one (old)" || !p.before("create host[0]", "remove one (old)") ||
		p.found("old-first") != nil {
		t.Errorf("%+v %v", p.of("one"), p.Findings)
	}
	// A run that ended in between goes on from the old one.
	left := slices.Clone(stack)
	for i := range left {
		if left[i].Name == "host[0]" {
			left[i].Name = OldName("host[0]")
		}
	}
	c := planned(newFirst, left, nil, offer.Everywhere{}).of("host[0]")
	if c.Change != Alter || c.Was != OldName("host[0]") {
		t.Errorf("wanted as it was: %+v", c)
	}
	c = planned(newFirst, left, map[string]any{"boot": "second"}, offer.Everywhere{}).of("host[0]")
	if c.Change != Rebuild || c.Was != OldName("host[0]") || c.Old != OldName("host[0]") {
		t.Errorf("wanted anew: %+v", c)
	}
}

func TestAPaceIsKeptWhereTheOrderAllowsIt(t *testing.T) {
	t.Parallel()
	paced := read(t, "old_first\n    pace: {at_once: 1}")
	stack := there(planned(paced, nil, nil, offer.Everywhere{}))
	p := planned(paced, stack, map[string]any{"boot": "second"}, offer.Everywhere{})
	if !p.before("create host[0]", "remove host[1]") || !p.before("create host[1]", "remove host[2]") {
		t.Errorf("rebuilt at once: %+v", p.Actions)
	}
	if p = planned(paced, stack, map[string]any{"size": "plain-4"}, offer.Everywhere{}); !p.before("alter host[0]",
		"alter host[1]") {
		t.Errorf("altered at once: %+v", p.Actions)
	}
	p = planned(paced, stack, map[string]any{"one": "10.0.0.0/23"}, offer.Everywhere{})
	if len(p.found("no-pace")) != 1 || p.found("no-order") != nil {
		t.Errorf("their subnet goes first: %v", p.Findings)
	}
}

func TestQuotasAreCountedByTheOrder(t *testing.T) {
	t.Parallel()
	template := read(t, "old_first")
	sizes := []offer.Size{
		{Name: "plain-2", VCPUs: 2, Zones: []string{"a"}},
		{Name: "plain-4", VCPUs: 4, Zones: []string{"a"}},
	}
	has := func(limit, used int64) offer.Everywhere {
		return offer.At(offer.Offers{
			Region: "north-fell",
			Sizes:  sizes,
			Quotas: map[string]offer.Quota{"vcpus": {Limit: limit, Used: used}},
		})
	}
	if p := planned(template, nil, nil, has(8, 0)); p.found("quota") != nil {
		t.Errorf("all of it fits: %v", p.Findings)
	}
	if p := planned(template, nil, nil, has(8, 1)); len(p.found("quota")) != 1 ||
		p.found("quota")[0] != "the account may have 8 vcpus in north-fell and has 1; this needs 8, 1 too many" {
		t.Errorf("one is missing: %v", p.Findings)
	}
	stack := there(planned(template, nil, nil, offer.Everywhere{}))
	if p := planned(template, stack, map[string]any{"size": "plain-4"}, has(8, 8)); len(p.found("quota")) != 1 ||
		!strings.Contains(p.found("quota")[0], "this needs 6, 6 too many") {
		t.Errorf("larger machines: %v", p.Findings)
	}
	// Two machines go, and the third grows once one of them is gone.
	p := planned(template, stack, map[string]any{"size": "plain-4", "hosts": int64(1)}, has(8, 8))
	if p.found("quota") != nil ||
		!p.before("remove host[2]", "alter host[0]") && !p.before("remove host[1]", "alter host[0]") {
		t.Errorf("what is freed counts: %v %+v", p.Findings, p.Actions)
	}
	// A rebuild has its own room.
	if p := planned(template, stack, map[string]any{"boot": "second"}, has(8, 8)); p.found("quota") != nil {
		t.Errorf("rebuilding in place: %v", p.Findings)
	}
	// New ones beside the old ones need some: the desk, which goes first, gives it.
	p = planned(read(t, "new_first"), stack, map[string]any{"boot": "second"}, has(8, 8))
	if p.found("quota") != nil || !p.before("remove desk", "create host[0]") ||
		!p.before("remove desk", "create host[2]") || !p.before("remove host[0] (old)", "create desk") {
		t.Errorf("one after the other: %v %+v", p.Findings, p.Actions)
	}
	withoutDesk := strings.Replace(coast[:strings.Index(coast, "  desk:")], "CONDUCT", "new_first", 1)
	alone, found := lang.Read("t", []byte(withoutDesk))
	if alone == nil {
		t.Fatal(found)
	}
	stack = there(planned(alone, nil, nil, offer.Everywhere{}))
	p = planned(alone, stack, map[string]any{"boot": "second"}, has(6, 6))
	if len(p.found("quota")) != 1 || !strings.Contains(p.found("quota")[0], "that cannot be free in time") {
		t.Errorf("there is no room for even one more: %v", p.Findings)
	}
}

func TestListsAreComparedByWhatTellsTheirItemsApart(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("t", []byte(`undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs: {ports: {type: array, items: {type: integer}, default: [22, 80, 443]}}
resources:
  net: {type: network, want: {range: 10.0.0.0/16}}
  door:
    type: firewall
    want:
      network: =net.id
      rules: '=inputs.ports.map(p, firewall_rule{from: "10.0.0.0/8", port: p, about: "port " + string(p)})'
`))
	if template == nil {
		t.Fatal(found)
	}
	stack := there(planned(template, nil, nil, offer.Everywhere{}))
	names := func(ports ...any) string {
		var out []string
		c := planned(template, stack, map[string]any{"ports": ports}, offer.Everywhere{}).of("door")
		for _, f := range c.Fields {
			out = append(out, f.Name)
		}
		return string(c.Change) + " " + strings.Join(out, ", ")
	}
	got := names(int64(22), int64(443))
	if got != "alter rules[from 10.0.0.0/8 port 80].about, rules[from 10.0.0.0/8 port 80].from, rules[from "+
		"10.0.0.0/8 port 80].port" {
		t.Errorf("the middle one goes: %s", got)
	}
	if got := names(int64(443), int64(22), int64(80)); got != "same " {
		t.Errorf("in another order: %s", got)
	}
}

func TestConductThatChangesShows(t *testing.T) {
	t.Parallel()
	stack := there(planned(read(t, "old_first"), nil, nil, offer.Everywhere{}))
	change := func(words ...string) Change {
		t.Helper()
		template, found := lang.Read("t",
			[]byte(strings.NewReplacer(append(words, "CONDUCT", "old_first")...).Replace(coast)))
		if template == nil {
			t.Fatal(found)
		}
		return planned(template, stack, nil, offer.Everywhere{}).of("data")
	}
	for about, c := range map[string]struct {
		words []string
		field string
		kind  Kind
	}{
		"a guard":      {[]string{"data: {type: disk,", "data: {type: disk, guard: true,"}, "guard", Alter},
		"what is kept": {[]string{"data: {type: disk,", "data: {type: disk, at_retire: keep,"}, "at_retire", Alter},
		"another order": {[]string{"data: {type: disk,", "data: {type: disk, after: {net: healthy},"}, "after",
			Alter},
		"another region": {[]string{"data: {type: disk,", "data: {type: disk, region: long-sound,"}, "region",
			Rebuild},
		"tags": {[]string{"type: solid}", "type: solid, tags: {owner: tam}}"}, "tags.owner", Alter},
		"a guard by hand": {[]string{"data: {type: disk,", "data: {type: disk, guard: '=inputs.hosts > 2',"}, "guard",
			Alter},
	} {
		got := change(c.words...)
		if got.Change != c.kind || len(got.Fields) != 1 || got.Fields[0].Name != c.field {
			t.Errorf("%s: %+v", about, got)
		}
	}
}

func TestWhatIsRemovedBesideItsLikeMayBeRenamed(t *testing.T) {
	t.Parallel()
	stack := there(planned(read(t, "old_first"), nil, nil, offer.Everywhere{}))
	renamed := func(to string) []string {
		template, found := lang.Read("t",
			[]byte(strings.NewReplacer("  data: {type: disk, want: {size: 10GiB, type: solid}}", to, "=data.id",
				"=store.id", "CONDUCT", "old_first").Replace(coast)))
		if template == nil {
			t.Fatal(found)
		}
		return planned(template, stack, nil, offer.Everywhere{}).found("renamed")
	}
	got := renamed("  store: {type: disk, want: {size: 20GiB, type: solid}}")
	if len(got) != 1 || !strings.Contains(got[0], "data leaves the stack, and store") {
		t.Error(got)
	}
	for about, to := range map[string]string{
		"smaller":         "  store: {type: disk, want: {size: 5GiB, type: solid}}",
		"of another type": "  store: {type: disk, want: {size: 10GiB, type: solid-plus}}",
	} {
		if got := renamed(to); got != nil {
			t.Errorf("%s: %v", about, got)
		}
	}
}

func TestAGuardThatIsLiftedAndUsedAtOnceNeedsAConsent(t *testing.T) {
	t.Parallel()
	stack := there(planned(read(t, "old_first"), nil, nil, offer.Everywhere{}))
	for i := range stack {
		stack[i].Guard = stack[i].Name == "one"
	}
	p := planned(read(t, "old_first"), stack, map[string]any{"one": "10.0.5.0/24"}, offer.Everywhere{})
	asked := Consents(p.Changes, stack)
	if len(asked) != 1 || asked[0].Name != LiftGuard || !strings.HasSuffix(asked[0].About, ": one") {
		t.Errorf("%v", asked)
	}
}

// TestSomeOfAListMayTakeARebuild holds disks of a machine against a cloud that mounts them at
// the first boot alone.
func TestSomeOfAListMayTakeARebuild(t *testing.T) {
	t.Parallel()
	machine, _ := resource.ByName("instance")
	disks, _ := machine.Property("disks")
	disk := func(id string, more ...any) any {
		out := map[string]any{"disk": id}
		for i := 0; i+1 < len(more); i += 2 {
			out[more[i].(string)] = more[i+1]
		}
		return out
	}
	data := disk("data", "mount", "/data")
	for _, c := range []struct {
		about         string
		before, after any
		want          bool
	}{
		{"one comes that nobody mounts", []any{data}, []any{disk("logs"), data}, false},
		{"the first one comes", nil, []any{disk("logs")}, false},
		{"one goes that nobody mounts", []any{data, disk("logs")}, []any{data}, false},
		{"all go", []any{disk("logs")}, nil, false},
		{"one comes that is mounted", []any{data}, []any{data, disk("logs", "mount", "/logs")}, true},
		{"one goes that is mounted", []any{data, disk("logs")}, []any{disk("logs")}, true},
		{"one is mounted elsewhere", []any{data}, []any{disk("data", "mount", "/readings")}, true},
		{"one is mounted no more", []any{data}, []any{disk("data")}, true},
		{"nobody knows yet", []any{data}, resource.Unresolved{Waits: []string{"x.id"}}, true},
	} {
		got := rebuilds([]string{"disk.type", "instance.disks.mount"}, "instance.disks", disks, c.before, c.after)
		if got != c.want {
			t.Errorf("%s: %t", c.about, got)
		}
	}
	if rebuilds([]string{"instance.disks"}, "instance.disks", disks, []any{data}, []any{data, disk("logs")}) == false ||
		rebuilds([]string{"instance.disk", "disks"}, "instance.disks", disks, nil, []any{data}) {
		t.Error("a whole property is taken for another")
	}
}

// TestWhatIsDoneOnAThingThatStaysComesAfterWhatItStandsOn: a task on a machine that stays as
// it is sees the subnet that is altered around it, and not the one before.
func TestWhatIsDoneOnAThingThatStaysComesAfterWhatItStandsOn(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("t", []byte(`undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs: {names: {type: array, items: {type: string}, default: []}}
resources:
  net: {type: network, want: {range: 10.0.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24, name_servers: =inputs.names}}
  access: {type: key_pair}
  host: {type: instance, want: {size: plain-1, image: i, subnet: =lan.id, public: true, key_pair: =access.id}}
  shown:
    type: task
    want:
      on: =host.public_address
      user: a
      key: =access.private_key
      command: b
      again_when: ['=inputs.names.join(" ")']
  beside:
    type: task
    want:
      on: =host.public_address
      user: a
      key: =access.private_key
      command: b
      again_when: ['=inputs.names.join(" ")']
    after: {host: made}
`))
	if template == nil {
		t.Fatal(found)
	}
	stack := there(planned(template, nil, nil, offer.Everywhere{}))
	p := planned(template, stack, map[string]any{"names": []any{"10.0.0.53"}}, offer.Everywhere{})
	if p.of("host").Change != Same || !p.before("alter lan", "create shown") ||
		!p.before("alter lan", "create beside") {
		t.Fatalf("%+v of %v", p.Actions, Summary(p.Changes))
	}
	for _, a := range p.Actions { // as healthy as the machine is to be, so is the subnet
		for _, n := range a.Needs {
			if first := p.Actions[n.Action]; first.Resource == "lan" && n.Made != (a.Resource == "beside") {
				t.Errorf("%s of %s waits for %+v", a.Do, a.Resource, n)
			}
		}
	}
}
