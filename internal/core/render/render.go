package render

import (
	"fmt"
	"maps"
	"strconv"
	"strings"

	"undersail/internal/core/budget"
	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// Most bounds how many resources one template may give, maxTexts how many bytes
// its long texts may have together.
const (
	Most     = 200_000
	longText = 1 << 10
	maxTexts = 32 << 20
)

// Render computes the rendering. Faults of inputs, offers and computation are
// findings of the rendering, all of them; the rendering then holds what could
// be computed. What goes beyond the budget is not, and the rendering says that it is
// stopped.
func Render(b *budget.Budget, request Request) *Rendering {
	e := newEvaluator(b, request)
	if request.Rehearse {
		e.readers, e.resolvable = map[string][]listener{}, map[string]*member{}
		e.out.session = &Session{root: e}
	}
	if e.render(); e.out.Stopped {
		return e.out
	}
	e.out.Outputs = e.outputs()
	e.out.Usable = e.usable()
	e.out.Guide = e.guide()
	e.advise()
	e.prove()
	e.explainRest()
	return e.out
}

// session is one rendering while it is computed: what all templates in it,
// the outer one and those it embeds, share.
type session struct {
	request Request
	budget  *budget.Budget
	out     *Rendering
	// incomplete says that a value stands in for a missing input: follow-up
	// faults are not reported.
	incomplete bool
	// told are the findings so far.
	told map[Finding]bool
	// texts counts the bytes of long texts that were computed.
	texts int
	// resolvable, readers and revealing are of a [Session] only: the resources by
	// name, what is outdated once one reports something, and whether secrets show
	// their values now.
	resolvable map[string]*member
	readers    map[string][]listener
	revealing  bool
	reveal     func(reference string) (string, bool)
	// secretive says that secrets take part in something.
	secretive bool
	// marks stand in the places of secrets while what is around them is computed.
	marks marks
	// numbers stand for attributes that are numbers; they are the marks of these.
	numbers map[string]string
}

// evaluator renders one template of a session.
type evaluator struct {
	*session
	template *lang.Template
	// scope stands before the names of this template's resources: "" for the
	// outer template, such as edge. or edge[0]. for an embedded one.
	scope string
	vars  *expr.Vars
	// inputCells and calcCells are the values between inputs and resources.
	inputCells, calcCells *cells
	given                 map[string]any // values of inputs
	// gives computes an input again that the template above gives.
	gives      map[string]func() (any, []string)
	givenReads map[string][]string
	// members are the rendered names of each declaration.
	members map[string][]string
	// Reads are the resources behind a value: what must be healthy before the
	// value is known. reads collects those of what is being computed now.
	reads *[]string
	// base is what everything in an embedded template comes after.
	base []After
	// parent and from tell where the inputs of an embedded template come from.
	parent   *evaluator
	from     *lang.Resource
	fromVars *expr.Vars
}

func newEvaluator(b *budget.Budget, request Request) *evaluator {
	t, s := request.Template, request.Stack
	if s.ID == "" {
		s.ID = FixedID
	}
	shared := &session{
		request:   request,
		budget:    b,
		secretive: len(request.Secrets) > 0 || secretive(t),
		told:      map[Finding]bool{},
		out: &Rendering{
			Template:  TemplateRef{t.About.Name, t.About.Version, t.About.Title, t.Digest},
			Stack:     s,
			index:     map[string]int{},
			Resources: []Resource{}, Outputs: []Output{}, Findings: []Finding{}, Inputs: []InputValue{},
		},
	}
	return shared.evaluator(t, "", request.Inputs)
}

func (s *session) evaluator(t *lang.Template, scope string, given map[string]any) *evaluator {
	st := s.out.Stack
	e := &evaluator{
		session:    s,
		template:   t,
		scope:      scope,
		given:      given,
		members:    map[string][]string{},
		reads:      new([]string),
		inputCells: s.cells(),
		calcCells:  s.cells(),
		gives:      map[string]func() (any, []string){},
		givenReads: map[string][]string{},
		vars:       expr.NewVars(),
	}
	e.vars.Set("stack", &expr.Object{Type: "stack", Fields: map[string]any{
		"account": st.Account, "cloud": st.Cloud, "id": st.ID, "name": st.Name, "region": st.Region}})
	if t.UsesOffers {
		e.vars.Set("offers", expr.OffersValue(s.request.Offers))
	}
	return e
}

func (e *evaluator) render() {
	e.inputs()
	if e.calc(); e.stopped() {
		return
	}
	for _, i := range e.template.Order {
		e.declaration(e.template.Resources[i])
	}
	e.require()
}

func (e *session) find(severity lang.Severity, code, place, remedy, format string, args ...any) {
	if e.marks != unmarked {
		return // it was told of the value itself
	}
	f := Finding{Severity: severity, Code: code, Place: place, Message: fmt.Sprintf(format, args...), Remedy: remedy}
	// What is told of an input is not told again of every resource that uses it.
	ofInput := Finding{Code: f.Code, Message: f.Message}
	if e.told[f] || e.told[ofInput] {
		return
	}
	e.told[f] = true
	if strings.HasPrefix(place, "inputs.") {
		e.told[ofInput] = true
	}
	e.out.Findings = append(e.out.Findings, f)
}

// broken reports a value that cannot be computed, unless a missing input
// already explains it. Place counts within the template that is rendered.
func (e *evaluator) broken(place string, n *lang.Node, err error) {
	if e.incomplete {
		return
	}
	e.find(lang.Error, "compute", e.scope+place, fmt.Sprintf("see line %d of %s", n.Line, e.template.File), "%v", err)
}

func (e *session) secret(reference string) any {
	if e.marks != unmarked {
		return resource.MarkSecret(reference, e.marks == secondMarks)
	}
	if e.revealing {
		if v, ok := e.reveal(reference); ok {
			return v
		}
	}
	return resource.Unresolved{Secrets: []string{reference}}
}

func (e *evaluator) require() {
	for _, req := range e.template.Require {
		v, err := e.eval(req.That, resource.Shape{Kind: resource.Boolean}, e.vars)
		if err != nil {
			e.broken("require", req.That, err)
			continue
		}
		if holds, ok := v.(bool); ok && !holds && !e.incomplete {
			words, err := e.eval(req.Else, resource.Shape{Kind: resource.String}, e.vars)
			if err != nil {
				words = req.That.Text
			}
			e.find(lang.Error, "require", e.scope+"inputs", "change the inputs that it names", "%v", words)
			if e.parent == nil { // so that it is told where these inputs are given
				f := &e.out.Findings[len(e.out.Findings)-1]
				f.File, f.Line, f.Inputs = e.template.File, req.That.Line,
					strings.Join(readBy(e.template, req.That, 0), ",")
			}
		}
	}
}

// declaration renders one declaration and puts it into scope for those after it.
func (e *evaluator) declaration(d *lang.Resource) {
	defer e.fillCalc()
	if e.stopped() {
		return
	}
	if d.When != nil && !e.wanted(d) {
		e.vars.Set(d.Name, e.absent(d))
		return
	}
	if d.Repeat == nil {
		e.vars.Set(d.Name, e.member(d, d.Name, 0, nil))
		return
	}
	rounds, err := e.rounds(d)
	if err != nil {
		e.broken(d.Name, d.Repeat[0].Over, err)
	}
	members := make([]any, len(rounds))
	for i, round := range rounds {
		if e.stopped() {
			return
		}
		members[i] = e.member(d, d.Name+roundKey(d, i, round), i, round)
	}
	e.vars.Set(d.Name, indexed(d.Repeat, rounds, members))
}

// stopped reports whether whoever asked has given up; what is rendered is incomplete then.
func (e *evaluator) stopped() bool {
	if !e.out.Stopped && e.budget.Over() {
		e.out.Stopped, e.incomplete = true, true
	}
	return e.out.Stopped
}

// indexed gives the members of a repetition as they are indexed, the first loop
// outermost: by value where a loop runs over values, else by index.
func indexed(loops []lang.Loop, rounds []map[string]any, members []any) any {
	if len(loops) == 0 {
		return members[0]
	}
	loop := loops[0]
	list, byKey := []any{}, map[string]any{}
	for from, to := 0, 0; from < len(rounds); from = to {
		for to = from + 1; to < len(rounds) && len(loops) > 1 &&
			rounds[to][loop.Name] == rounds[from][loop.Name]; to++ {
		}
		inner := indexed(loops[1:], rounds[from:to], members[from:to])
		list = append(list, inner)
		byKey[fmt.Sprint(rounds[from][loop.Name])] = inner
	}
	if loop.Keyed() {
		return byKey
	}
	return list
}

// wanted evaluates the condition of an optional declaration. A condition that
// cannot be known without a place makes nothing and says so.
func (e *evaluator) wanted(d *lang.Resource) bool {
	v, err := e.eval(d.When, resource.Shape{Kind: resource.Boolean}, e.vars)
	if err != nil {
		e.broken(d.Name, d.When, err)
	}
	if u, pending := v.(resource.Unresolved); pending {
		e.unplaced(d.Name, "whether it is made", u)
	}
	wanted, _ := v.(bool)
	return wanted
}

// unplaced tells of something that depends on what the region sells, while no
// region was named.
func (e *evaluator) unplaced(place, what string, u resource.Unresolved) {
	e.find(lang.Warning, "no-place", e.scope+place, "name an account and a region, or saved offers",
		"%s depends on %s, and this rendering has no place", what, strings.Join(u.Waits, ", "))
}

// absent is an optional that is not there.
func (e *evaluator) absent(d *lang.Resource) *expr.Object {
	if d.Embedded != nil {
		outputs := &expr.Object{Type: "outputs " + d.Name, Optional: true}
		return &expr.Object{Type: lang.Embed + " " + d.Name, Fields: map[string]any{"outputs": outputs}}
	}
	return &expr.Object{Type: d.Type.Name + "?", Optional: true}
}

func (e *evaluator) member(d *lang.Resource, name string, index int, loop map[string]any) *expr.Object {
	if d.Embedded != nil {
		return e.embed(d, name, index, loop)
	}
	obj := e.instance(d, name, index, loop)
	if d.When != nil {
		obj.Type, obj.Optional, obj.Present = d.Type.Name+"?", true, true
	}
	return obj
}

// roundKey names a member by the values of its loops, so that taking one away
// never renames the others; a plain count has nothing but the index.
func roundKey(d *lang.Resource, index int, round map[string]any) string {
	if len(d.Repeat) == 1 && d.Repeat[0].Name == "" {
		return "[" + strconv.Itoa(index) + "]"
	}
	key := ""
	for _, l := range d.Repeat {
		key += fmt.Sprintf("[%v]", round[l.Name])
	}
	return key
}

// rounds lists the loop values of every member, the first loop outermost.
func (e *evaluator) rounds(d *lang.Resource) ([]map[string]any, error) {
	rounds := []map[string]any{{}}
	for _, loop := range d.Repeat {
		values, err := e.loopValues(d, loop)
		if err != nil {
			return nil, err
		}
		if most := e.request.most(); len(rounds)*len(values) > most-len(e.out.Resources) {
			return nil, fmt.Errorf("the template gives more than %d resources", most)
		}
		next := make([]map[string]any, 0, len(rounds)*len(values))
		for _, round := range rounds {
			for _, v := range values {
				if loop.Name == "" {
					next = append(next, round) // a plain count has no name to set
					continue
				}
				more := maps.Clone(round)
				more[loop.Name] = v
				next = append(next, more)
			}
		}
		rounds = next
	}
	return rounds, nil
}

func (e *evaluator) loopValues(d *lang.Resource, loop lang.Loop) ([]any, error) {
	shape := resource.Shape{Kind: resource.Integer}
	if !loop.Count {
		shape = resource.Shape{Kind: resource.List, Items: &resource.Shape{Kind: resource.String}}
	}
	v, err := e.eval(loop.Over, shape, e.vars)
	if u, pending := v.(resource.Unresolved); pending {
		e.unplaced(d.Name, "how often it is repeated", u)
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if !loop.Count {
		list, ok := v.([]any)
		if !ok {
			return nil, fmt.Errorf("`repeat` has no list to run over")
		}
		seen := make(map[any]bool, len(list))
		for _, x := range list {
			if seen[x] {
				return nil, fmt.Errorf("`repeat` runs over %v twice", x)
			}
			seen[x] = true
		}
		return list, nil
	}
	n, ok := v.(int64)
	if !ok || n < 0 || n > Most {
		return nil, fmt.Errorf("`repeat` wants a number from 0 to %d, not %v", Most, v)
	}
	values := make([]any, n)
	for i := range values {
		values[i] = int64(i)
	}
	return values, nil
}

func (e *evaluator) outputs() []Output {
	out := []Output{}
	for _, o := range e.template.Outputs {
		v, reads := e.output(o)
		if v == any(expr.Absent) || v == nil {
			continue
		}
		out = append(out, Output{
			Name:   o.Name,
			About:  o.About,
			Value:  v,
			Secret: o.Secret || len(resource.Secrets(v)) > 0,
			reads:  reads,
			typ:    o.Type,
		})
		if e.request.Explain == e.scope+"outputs."+o.Name {
			e.explainValue("output", e.scope+"outputs."+o.Name, o.Value, e.vars)
		}
	}
	return out
}

// output computes one output; nil when that fails.
func (e *evaluator) output(o lang.Output) (v any, reads []string) {
	reads = e.collecting(func() {
		var err error
		if v, err = e.eval(o.Value, resource.Shape{Kind: resource.Open}, e.vars); err != nil {
			e.broken("outputs."+o.Name, o.Value, err)
			v = nil
		}
	})
	return v, reads
}
