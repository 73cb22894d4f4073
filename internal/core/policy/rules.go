package policy

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Rule is a rule of the organisation: what must hold of resources of some types, or,
// where no type is named, of the whole stack.
type Rule struct {
	Name    string   `json:"name"`
	Version int      `json:"version"`
	About   string   `json:"about,omitempty"`
	Does    string   `json:"does"` // forbid, warn or ask
	Types   []string `json:"types,omitempty"`
	That    string   `json:"that"`
	Says    string   `json:"says"`
	Remedy  string   `json:"remedy,omitempty"`
}

// What a rule that does not hold does.
const (
	Forbid = "forbid"
	Warn   = "warn"
	Ask    = "ask"
)

// Rules are rules whose conditions were checked. A nil one has none.
type Rules struct{ list []checked }

type checked struct {
	Rule
	program *expr.Program
}

var rulePattern = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// scope is what a condition may read. Properties that are not wanted read as null.
var scope = expr.NewEnv(expr.Scope{Vars: map[string]*cel.Type{
	"resource":  cel.MapType(cel.StringType, cel.DynType), // name, type, region, declared, hour, month
	"want":      cel.MapType(cel.StringType, cel.DynType),
	"tags":      cel.MapType(cel.StringType, cel.DynType),
	"stack":     cel.MapType(cel.StringType, cel.StringType), // name, account, cloud, region, template
	"resources": cel.ListType(cel.MapType(cel.StringType, cel.DynType)),
	"month":     cel.DoubleType, // the cost of the whole stack
}})

// Compile checks rules. Each fault is an error that names the rule and says what to
// write instead; the rules without faults are given all the same.
func Compile(list []Rule) (*Rules, []error) {
	out := &Rules{}
	var faults []error
	for _, r := range list {
		c, err := compile(r)
		if err != nil {
			faults = append(faults, fmt.Errorf("policy %s: %w", r.Name, err))
			continue
		}
		out.list = append(out.list, c)
	}
	return out, faults
}

func compile(r Rule) (checked, error) {
	switch {
	case !rulePattern.MatchString(r.Name) || len(r.Name) > 60:
		return checked{}, fmt.Errorf("use small letters, digits and hyphens for its name, such as no-large-disks")
	case !slices.Contains([]string{Forbid, Warn, Ask}, r.Does):
		return checked{}, fmt.Errorf("it may forbid, warn or ask, not %q", r.Does)
	case strings.TrimSpace(r.Says) == "":
		return checked{}, fmt.Errorf("it does not say what is wrong when it does not hold")
	}
	for _, t := range r.Types {
		if _, known := resource.ByName(t); !known {
			return checked{}, fmt.Errorf("%s", expr.Suggest(t, resource.TypeNames(), "there is no resource type "+t))
		}
	}
	text := strings.TrimPrefix(r.That, "=")
	program, problems := scope.Check(text)
	if problems != nil { // columns of an expression begin with 0
		at := problems[0].Column + 1 + len(r.That) - len(text)
		return checked{}, fmt.Errorf("its condition, column %d: %s%s", at, problems[0].Message, remedyOf(problems[0]))
	}
	if !program.Type.IsExactType(cel.BoolType) && !program.Type.IsExactType(cel.DynType) {
		return checked{}, fmt.Errorf("its condition gives %s, and must be true or false", expr.TypeWords(program.Type))
	}
	return checked{r, program}, nil
}

func remedyOf(p expr.Problem) string {
	if p.Remedy == "" {
		return ""
	}
	return " (" + p.Remedy + ")"
}

// apply lets every rule look.
func (rules *Rules) apply(l *look) {
	if rules == nil || len(rules.list) == 0 {
		return
	}
	all, costs := []any{}, map[string]float64{}
	for _, line := range l.Cost.Lines {
		costs[line.Resource] = line.Hour
	}
	values := make([]map[string]any, 0, len(l.Resources))
	l.each(func(r *render.Resource) {
		v := view(r, costs[r.Name])
		values = append(values, v)
		all = append(all, v["resource"])
	})
	st := l.Stack
	shared := expr.NewVars()
	shared.Set("stack", map[string]any{
		"name":     st.Name,
		"account":  st.Account,
		"cloud":    st.Cloud,
		"region":   st.Region,
		"template": l.Template.Name,
	})
	shared.Set("resources", all)
	shared.Set("month", l.Cost.Month)
	for _, rule := range rules.list {
		if len(rule.Types) == 0 && !readsResource(rule.program) {
			rule.judge(l, "stack", shared.With(map[string]any{
				"resource": map[string]any{},
				"want":     map[string]any{},
				"tags":     map[string]any{},
			}))
			continue
		}
		i := -1
		l.each(func(r *render.Resource) {
			if i++; len(rule.Types) == 0 || slices.Contains(rule.Types, r.Type) {
				rule.judge(l, r.Name, shared.With(values[i]))
			}
		})
	}
}

func readsResource(p *expr.Program) bool {
	return slices.ContainsFunc(p.Uses,
		func(u expr.Use) bool { return u.Name == "resource" || u.Name == "want" || u.Name == "tags" })
}

// view is a resource as conditions read it: every property of its type, those that are
// not wanted as null.
func view(r *render.Resource, hour float64) map[string]any {
	want := map[string]any{}
	t, _ := resource.ByName(r.Type)
	for _, p := range t.Properties {
		want[p.Name] = r.Want[p.Name]
	}
	tags, _ := r.Want["tags"].(map[string]any)
	if tags == nil {
		tags = map[string]any{}
	}
	return map[string]any{
		"want": want,
		"tags": tags,
		"resource": map[string]any{
			"name":     r.Name,
			"type":     r.Type,
			"declared": r.Declared,
			"region":   r.Region,
			"hour":     hour,
			"month":    hour * price.HoursPerMonth,
			"want":     want,
			"tags":     tags,
		},
	}
}

// judge evaluates a condition. What is not known before the run does not break a rule,
// and is told.
func (c checked) judge(l *look, place string, vars *expr.Vars) {
	v, err := c.program.Eval(vars)
	if _, pending := v.(resource.Unresolved); pending && err == nil {
		l.find(lang.Note, "policy:"+c.Name, place, "look at it once it is made",
			"whether it keeps to the policy %s is known only then", c.Name)
		return
	}
	if holds, _ := v.(bool); holds && err == nil {
		return
	}
	says := c.Says
	if err != nil {
		says += fmt.Sprintf(" (the condition cannot be computed here: %v)", err)
	}
	switch c.Does {
	case Forbid:
		l.find(lang.Error, "policy:"+c.Name, place, cmp.Or(c.Remedy, "see: undersail policies show "+c.Name), "%s",
			says)
	case Ask:
		l.ask("policy-"+c.Name, fmt.Sprintf("%s: %s", place, says))
	default:
		l.find(lang.Warning, "policy:"+c.Name, place, cmp.Or(c.Remedy, "see: undersail policies show "+c.Name), "%s",
			says)
	}
}
