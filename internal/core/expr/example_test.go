package expr_test

import (
	"fmt"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

func ExampleEnv_Check() {
	env := expr.NewEnv(expr.Scope{
		Vars:    map[string]*cel.Type{"inputs": cel.ObjectType("inputs")},
		Structs: map[string]map[string]*cel.Type{"inputs": {"range": cel.StringType}},
	})
	_, problems := env.Check("inputs.rang")
	fmt.Println(problems[0].Message)
	fmt.Println(problems[0].Remedy)
	// Output:
	// `inputs` has no `rang`
	// did you mean `range`?
}

// What a machine tells only when it is made is pending: it says what it waits for.
func ExampleProgram_Eval() {
	env := expr.NewEnv(expr.Scope{
		Vars:    map[string]*cel.Type{"gauge": cel.ObjectType("instance")},
		Structs: map[string]map[string]*cel.Type{"instance": {"public_address": cel.StringType}},
	})
	program, _ := env.Check(`"http://" + gauge.public_address + "/"`)
	vars := expr.NewVars()
	vars.Set("gauge", &expr.Object{
		Type:   "instance",
		Fields: map[string]any{"public_address": resource.Unresolved{Waits: []string{"gauge.public_address"}}},
	})
	v, _ := program.Eval(vars)
	fmt.Println(resource.Waits(v))
	vars.Set("gauge", &expr.Object{
		Type:   "instance",
		Fields: map[string]any{"public_address": "198.51.100.7"},
	})
	v, _ = program.Eval(vars)
	fmt.Println(v)
	// Output:
	// [gauge.public_address]
	// http://198.51.100.7/
}
