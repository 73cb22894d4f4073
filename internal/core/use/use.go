// Package use lists what the secrets of a rendering are opened for: which, for what, to
// where, and with what around them. It opens nothing, and knows no values.
//
// A use is known by its digest: over the secret's name, what it is for, where it goes and
// everything that goes with it, with references and names of attributes in their places. So
// a use that was agreed to stays agreed while addresses and ids become others, and a new
// version of the secret is given; and it is another one as soon as a word around it is.
package use

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// The purposes of uses.
const (
	Property = "property" // handed to the cloud as a property of a resource
	Check    = "check"    // sent with a check
	SignIn   = "sign-in"  // signs in to a machine
	Command  = "command"  // handed to a command on a machine
	Answer   = "answer"   // asked of a machine that was given it
	Output   = "output"   // part of an output, for whoever may read it
	People   = "people"   // people sign in with it, through the service
)

// Use is one thing that secrets are opened for.
type Use struct {
	Digest string `json:"digest"`
	// Secrets are references such as site/password@1, sorted.
	Secrets []string `json:"secrets"`
	For     string   `json:"for"`
	// At is the declared resource and property, the check or the output; Members are those
	// of a repetition that it is a use of.
	At      string   `json:"at"`
	Members []string `json:"members,omitempty"`
	// To says in words where it goes, and what shows that it is there.
	To string `json:"to"`
	// Text is what goes there, with references and names of attributes in their places; of
	// what waits for something else it is nothing. Made is the expression, where more is made
	// of the secret than putting it in its place.
	Text any    `json:"text,omitempty"`
	Made string `json:"made,omitempty"`
	// Waits is what nobody knows yet and somebody has to look at once it is known.
	Waits []string `json:"waits,omitempty"`
	// By is who wrote the text that says so; empty for what was recorded before that was.
	By string `json:"by,omitempty"`
	// New says that it was not agreed to before.
	New bool `json:"new,omitempty"`
}

// Place is what a rendering does not tell of where its secrets go.
type Place struct {
	// By is who wrote the template's text, Template its digest.
	By, Template string
	// Keys are the named key pairs that inputs were given, by the public half.
	Keys map[string]string
	// Carried are what carries secrets that it was given before; see [Told].
	Carried map[string][]string
	// Told are machines that were given secrets, by name; Of finds them itself.
	Told map[string][]string
}

// Told are the machines of a rendering that are given secrets, by name, whether it was read
// back or not: in what they are made of, by a command that runs on them, or on a disk that
// carries what it was given before. Whoever signs in to one, and whatever it answers, may
// tell them. Carried are what carries secrets, by the names that resources have here or by
// ids of the cloud.
func Told(r *render.Rendering, carried map[string][]string) map[string][]string {
	out := map[string][]string{}
	for _, x := range r.Resources {
		if !resource.IsMachine(x.Type) || x.Find != nil {
			continue
		}
		secrets := resource.Recorded(x.Want)
		resource.Leaves(place(x.Want["disks"], x.Marks["disks"]), func(_ string, leaf any) {
			for _, at := range whereabouts(leaf) {
				secrets = append(secrets, carried[at]...)
			}
		})
		if len(secrets) > 0 {
			out[x.Name] = secrets
		}
	}
	for _, x := range r.Resources {
		if t, _ := resource.ByName(x.Type); !t.Own {
			continue
		}
		given := resource.Recorded(resource.Without(x.Want, "key", "through"))
		on := fmt.Sprint(spec(x.Want, x.Marks)["on"])
		for _, m := range r.Resources {
			if resource.IsMachine(m.Type) && m.Find == nil && len(given) > 0 &&
				strings.Contains(on, "⟨"+m.Name+".") {
				out[m.Name] = append(out[m.Name], given...)
			}
		}
	}
	for name, secrets := range out {
		slices.Sort(secrets)
		out[name] = slices.Compact(secrets)
	}
	return out
}

// whereabouts are the names or ids of what a placed value is the id of.
func whereabouts(leaf any) (out []string) {
	switch t := leaf.(type) {
	case string:
		out = append(out, strings.TrimPrefix(strings.TrimSuffix(t, ".id⟩"), "⟨"))
	case resource.Unresolved:
		out = slices.Clone(t.Waits)
	case map[string]any:
		out = slices.Clone(resource.Pending(t))
	}
	for i := range out {
		out[i] = strings.TrimSuffix(out[i], ".id")
	}
	return out
}

// Of lists the uses of a rendering, by their places.
func Of(r *render.Rendering, p Place) []Use {
	if r == nil {
		return nil
	}
	p.Told = Told(r, p.Carried)
	var all []Use
	for _, x := range r.Resources {
		all = append(all, OfResource(x, r.Stack, p)...)
	}
	all = append(all, OfProof(r.Prove, r.Stack, p)...)
	for _, o := range r.Outputs {
		c := collector{stack: r.Stack, place: p}
		c.add(Use{For: Output, At: "output " + o.Name, To: "whoever may read it, and stacks that read this one"},
			o.Value, place(o.Value, nil), place(o.Value, nil))
		all = append(all, c.uses...)
	}
	return Merge(all)
}

// Merge puts the members of repetitions together whose uses are the same.
func Merge(list []Use) []Use {
	out := []Use{}
	at := map[string]int{}
	for _, u := range list {
		i, there := at[u.Digest]
		if !there {
			at[u.Digest] = len(out)
			out = append(out, u)
			continue
		}
		for _, m := range u.Members {
			if !slices.Contains(out[i].Members, m) {
				out[i].Members = append(slices.Clone(out[i].Members), m)
			}
		}
	}
	return out
}

// OfResource lists the uses of one resource: of its properties, its checks, and where it is
// a task, of its command.
func OfResource(x render.Resource, stack render.Stack, p Place) []Use {
	c := collector{stack: stack, place: p}
	t, _ := resource.ByName(x.Type)
	switch {
	case x.Find != nil:
	case t.Own:
		c.task(x)
	default:
		to := fmt.Sprintf("cloud %s, account %s: %s %s", stack.Cloud, stack.Account, resource.Words(x.Type),
			declaredName(x))
		for _, property := range slices.Sorted(maps.Keys(x.Want)) {
			v := x.Want[property]
			if len(resource.Secrets(v)) == 0 {
				continue
			}
			placed := place(v, x.Marks[property])
			around := map[string]any{"value": placed}
			if resource.IsMachine(x.Type) { // whoever logs in to it reads what it was given
				for _, name := range []string{"image", "key_pair"} {
					around[name] = place(x.Want[name], x.Marks[name])
				}
			}
			c.add(Use{For: Property, At: x.Declared + "." + property, Members: members(x.Name), To: to}, v, placed,
				around)
		}
	}
	if secrets := p.Told[x.Name]; len(secrets) > 0 && x.Want["key_pair"] != nil {
		c.put(Use{
			Secrets: secrets,
			For:     People,
			At:      x.Declared + " (signing in)",
			Members: members(x.Name),
			To: fmt.Sprintf("those who operate account %s, who sign in to it and read what it was given",
				stack.Account),
		}, place(x.Want["key_pair"], x.Marks["key_pair"]))
	}
	if key := p.Keys[keyOf(x)]; resource.DrawsKey(x.Type) && key != "" {
		c.put(Use{
			Secrets: []string{key},
			For:     People,
			At:      x.Declared + ".public_key",
			Members: members(x.Name),
			To: fmt.Sprintf("machines of stack %s that have the key pair %s: those who operate account %s sign in",
				stack.Name, declaredName(x), stack.Account),
		}, nil)
	}
	c.checks(x.Declared, x.Name, x.Checks)
	return c.uses
}

// OfChecks lists the uses of the checks of one resource.
func OfChecks(x render.Resource, stack render.Stack, p Place) []Use {
	c := collector{stack: stack, place: p}
	c.checks(x.Declared, x.Name, x.Checks)
	return c.uses
}

// OfProof lists the uses of the checks of the whole stack.
func OfProof(checks []health.Check, stack render.Stack, p Place) []Use {
	c := collector{stack: stack, place: p}
	c.checks("the whole stack", "", checks)
	return c.uses
}

// keyOf is the public half of a key pair, without its comment.
func keyOf(x render.Resource) string {
	public, _ := x.Want["public_key"].(string)
	return PublicHalf(public)
}

// PublicHalf gives the kind and the key of a line of OpenSSH's form, without its comment.
func PublicHalf(line string) string {
	fields := strings.Fields(line)
	if len(fields) < 2 {
		return ""
	}
	return fields[0] + " " + fields[1]
}

func declaredName(x render.Resource) string { return cmp.Or(x.Declared, x.Name) }

type collector struct {
	stack render.Stack
	place Place
	uses  []Use
}

// add notes a use of all secrets in a value. Text is the value, and around everything that
// goes with it, with everything in its place.
func (c *collector) add(u Use, value, text, around any) {
	if u.Secrets = resource.Secrets(value); len(u.Secrets) == 0 {
		return
	}
	u.Text, u.Made, u.Waits = text, made(value), pending(around)
	c.put(u, around)
}

func (c *collector) put(u Use, around any) {
	u.By = c.place.By
	u.To, _ = ofItself(u.To, u.Members).(string)
	u.Text, around = ofItself(u.Text, u.Members), ofItself(around, u.Members)
	names := make([]string, len(u.Secrets))
	for i, reference := range u.Secrets {
		names[i], _, _ = strings.Cut(reference, "@")
	}
	slices.Sort(names)
	digested := map[string]any{"secrets": slices.Compact(names), "for": u.For, "at": u.At, "to": versionless(u.To),
		"account": c.stack.Account, "cloud": c.stack.Cloud, "around": versionless(around), "by": u.By, "waits": u.Waits}
	if u.Made != "" { // how it is made stands anywhere in the template
		digested["made"], digested["template"] = u.Made, c.place.Template
	}
	u.Digest = digest(digested)
	c.uses = append(c.uses, u)
}

func digest(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		raw = fmt.Append(nil, v)
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// compared are properties of checks and tasks that are held against an answer, or say when
// it is asked: nothing of them is sent, unless a secret stands in them.
var compared = []string{"answer", "contains", "status", "is", "least", "values", "again_when"}

// goes is what of a check or a task goes to where it goes.
func goes(values, placed map[string]any) map[string]any {
	out := maps.Clone(placed)
	for _, name := range compared {
		if len(resource.Secrets(values[name])) == 0 {
			delete(out, name)
		}
	}
	return out
}

// task lists what a command on a machine is given: what it is, what it reads, and the key
// that opens the way to it.
func (c *collector) task(x render.Resource) {
	placed := goes(x.Want, spec(x.Want, x.Marks))
	to := health.Login(placed, "on")
	c.add(Use{For: Command, At: x.Declared, Members: members(x.Name), To: to},
		resource.Without(x.Want, "key", "through"), resource.Without(placed, "key", "through", "name", "tags"), placed)
	c.signsIn(x.Declared, x.Name, to, x.Want, placed)
	if secrets := c.told(placed["on"]); len(secrets) > 0 && x.Want["keep"] != nil {
		c.put(Use{
			Secrets: secrets,
			For:     Answer,
			At:      x.Declared,
			Members: members(x.Name),
			To:      to,
			Text:    map[string]any{"command": placed["command"], "keep": placed["keep"]},
		}, placed)
	}
}

// signsIn notes the keys that open the way to a machine, and to the one that it is reached
// through.
func (c *collector) signsIn(at, member, to string, values, placed map[string]any) {
	c.add(Use{For: SignIn, At: at + " (key)", Members: members(member), To: to}, values["key"], placed["key"],
		resource.Without(placed, "through"))
	if jump, ok := values["through"].(map[string]any); ok {
		in, _ := placed["through"].(map[string]any)
		c.add(Use{For: SignIn, At: at + " (key of the way in)", Members: members(member), To: health.Login(in, "host")},
			jump["key"], in["key"], in)
	}
}

// checks lists what checks send, and what they ask of machines that were given secrets.
func (c *collector) checks(declared, member string, checks []health.Check) {
	for _, check := range checks {
		at, placed := declared+" "+check.Name, goes(check.Spec, spec(check.Spec, check.Marks))
		to := health.Check{Kind: check.Kind, Spec: placed}.Destination()
		sent := resource.Without(placed, "key", "through")
		c.add(Use{For: Check, At: at, Members: members(member), To: to}, resource.Without(check.Spec, "key", "through"),
			sent, placed)
		c.signsIn(at, member, to, check.Spec, placed)
		machine := c.place.Told[member]
		if machine == nil {
			machine = c.told(placed["host"])
		}
		if len(machine) > 0 && (check.Spec["command"] != nil || check.Spec["keep"] != nil) {
			c.put(Use{Secrets: machine, For: Answer, At: at, Members: members(member), To: to, Text: sent}, placed)
		}
	}
}

func members(name string) []string {
	if name == "" {
		return nil
	}
	return []string{name}
}

// told are the secrets that the machine at an address was given, where its place in the
// text tells which machine that is.
func (c *collector) told(at any) []string {
	for _, name := range slices.Sorted(maps.Keys(c.place.Told)) {
		if strings.Contains(fmt.Sprint(at), "⟨"+name+".") {
			return c.place.Told[name]
		}
	}
	return nil
}

// Digests are those of a list, each once.
func Digests(list []Use) map[string]bool {
	out := make(map[string]bool, len(list))
	for _, u := range list {
		out[u.Digest] = true
	}
	return out
}

// Beyond lists the uses that are not among those that were agreed to, and what has to be
// looked at because something of it was not known then.
func Beyond(list []Use, agreed map[string]bool) []Use {
	return slices.DeleteFunc(slices.Clone(list), func(u Use) bool { return agreed[u.Digest] })
}

// Places lists where a list of uses is, once each.
func Places(list []Use) []string {
	out := []string{}
	for _, u := range list {
		if !slices.Contains(out, u.At) {
			out = append(out, u.At)
		}
	}
	return out
}

// Secrets lists the references of a list of uses, sorted and once each.
func Secrets(list []Use) []string {
	out := []string{}
	for _, u := range list {
		out = append(out, u.Secrets...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// InTheClear finds secrets where everybody reads them who sees the account: in names and
// tags, by which things are found.
func InTheClear(r *render.Rendering) (out []render.Finding) {
	for _, x := range r.Resources {
		for _, property := range []string{"name", "tags"} {
			if secrets := resource.Secrets(x.Want[property]); len(secrets) > 0 {
				out = append(out, render.Finding{
					Severity: lang.Error,
					Code:     "secret-in-the-clear",
					Place:    x.Name + "." + property,
					Message: fmt.Sprintf("the secret %s would stand in the %s of %s, where everybody reads it who "+
						"sees the account", secrets[0], property, x.Name),
					Remedy: "hand it over in a property that is kept for it, such as user_data",
				})
			}
		}
	}
	return out
}

// DigestOf is one digest over a list, whatever its order.
func DigestOf(list []Use) string {
	all := make([]string, len(list))
	for i, u := range list {
		all[i] = u.Digest
	}
	slices.Sort(all)
	return digest(all)
}
