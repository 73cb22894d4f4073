package expr

import (
	"fmt"
	"math"
	"reflect"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"undersail/internal/core/resource"
)

// The types of quantities. They are types of their own, so that 20 is never
// taken for 20GiB and a span is never added to an amount.
var (
	AmountType = cel.ObjectType("amount", quantityTraits)
	SpanType   = cel.ObjectType("span", quantityTraits)
)

const quantityTraits = traits.AdderType | traits.SubtractorType | traits.MultiplierType | traits.DividerType |
	traits.ComparerType

// quantity is an amount of data in bytes or a span of time in seconds.
type quantity struct {
	t *types.Type
	n int64
}

// String writes the quantity in the largest unit that needs no fraction.
func (q quantity) String() string {
	if q.t == SpanType {
		return resource.FormatSpan(q.n)
	}
	return resource.FormatData(q.n)
}

func (q quantity) ConvertToNative(t reflect.Type) (any, error) {
	if t.Kind() == reflect.String {
		return q.String(), nil
	}
	return nil, fmt.Errorf("%s is no %s", q.t.TypeName(), t)
}

func (q quantity) ConvertToType(t ref.Type) ref.Val {
	switch t.TypeName() {
	case "string":
		return types.String(q.String())
	case "int":
		return types.Int(q.n)
	case "double":
		return types.Double(q.n)
	case q.t.TypeName():
		return q
	}
	return types.NewErr("no conversion from %s to %s", q.t.TypeName(), t.TypeName())
}

func (q quantity) Equal(other ref.Val) ref.Val {
	o, ok := other.(quantity)
	return types.Bool(ok && o == q)
}
func (q quantity) Type() ref.Type { return q.t }
func (q quantity) Value() any     { return q.String() }

func (q quantity) Compare(other ref.Val) ref.Val {
	o, ok := other.(quantity)
	switch {
	case !ok || o.t != q.t:
		return types.MaybeNoSuchOverloadErr(other)
	case q.n < o.n:
		return types.IntNegOne
	case q.n > o.n:
		return types.IntOne
	}
	return types.IntZero
}

func (q quantity) Add(other ref.Val) ref.Val {
	o, ok := other.(quantity)
	if !ok || o.t != q.t {
		return types.MaybeNoSuchOverloadErr(other)
	}
	return q.of(float64(q.n)+float64(o.n), q.n+o.n)
}

func (q quantity) Subtract(other ref.Val) ref.Val {
	o, ok := other.(quantity)
	if !ok || o.t != q.t {
		return types.MaybeNoSuchOverloadErr(other)
	}
	return q.of(float64(q.n)-float64(o.n), q.n-o.n)
}

func (q quantity) Multiply(other ref.Val) ref.Val {
	switch by := other.(type) {
	case types.Int:
		return q.of(float64(q.n)*float64(by), q.n*int64(by))
	case types.Double:
		v := math.Round(float64(q.n) * float64(by))
		return q.of(v, int64(v))
	}
	return types.MaybeNoSuchOverloadErr(other)
}

func (q quantity) Divide(other ref.Val) ref.Val {
	switch by := other.(type) {
	case types.Int:
		if by == 0 {
			return types.NewErr("division by zero")
		}
		return q.Multiply(types.Double(1 / float64(by)))
	case types.Double:
		if by == 0 {
			return types.NewErr("division by zero")
		}
		return q.Multiply(1 / by)
	case quantity:
		if by.n == 0 || by.t != q.t {
			return types.NewErr("division by zero")
		}
		return types.Double(float64(q.n) / float64(by.n))
	}
	return types.MaybeNoSuchOverloadErr(other)
}

// of gives the exact result, unless the estimate says that it left the range.
func (q quantity) of(estimate float64, exact int64) ref.Val {
	if math.IsNaN(estimate) || estimate < 0 || estimate > math.MaxInt64/2 {
		return types.NewErr("the %s leaves the range from 0 to %s", q.t.TypeName(), quantity{q.t, math.MaxInt64 / 2})
	}
	return quantity{q.t, exact}
}

// quantityOf reads the text of a quantity.
func quantityOf(t *types.Type, text string) ref.Val {
	parse := resource.ParseData
	if t.TypeName() == SpanType.TypeName() {
		parse = resource.ParseSpan
	}
	n, err := parse(text)
	if err != nil {
		return types.NewErr("%v", err)
	}
	return quantity{t, n}
}

// quantities declares the two types with their arithmetic.
func quantities() []cel.EnvOption {
	add, sub, mul, div := []cel.FunctionOpt{}, []cel.FunctionOpt{}, []cel.FunctionOpt{}, []cel.FunctionOpt{}
	compare := map[string][]cel.FunctionOpt{"_<_": {}, "_<=_": {}, "_>_": {}, "_>=_": {}}
	toText, toInt, toDouble := []cel.FunctionOpt{}, []cel.FunctionOpt{}, []cel.FunctionOpt{}
	var opts []cel.EnvOption
	for _, t := range []*types.Type{AmountType, SpanType} {
		name := t.TypeName()
		pair := []*cel.Type{t, t}
		add = append(add, cel.Overload("add_"+name, pair, t))
		sub = append(sub, cel.Overload("subtract_"+name, pair, t))
		for _, by := range []*cel.Type{cel.IntType, cel.DoubleType} {
			mul = append(mul, cel.Overload("multiply_"+name+"_"+by.TypeName(), []*cel.Type{t, by}, t),
				cel.Overload("multiply_"+by.TypeName()+"_"+name, []*cel.Type{by, t}, t))
			div = append(div, cel.Overload("divide_"+name+"_"+by.TypeName(), []*cel.Type{t, by}, t))
		}
		div = append(div, cel.Overload("divide_"+name, pair, cel.DoubleType))
		for op := range compare {
			compare[op] = append(compare[op], cel.Overload("compare"+op+name, pair, cel.BoolType))
		}
		toText = append(toText, cel.Overload("text_of_"+name, []*cel.Type{t}, cel.StringType,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return v.ConvertToType(types.StringType) })))
		toInt = append(toInt, cel.Overload("int_of_"+name, []*cel.Type{t}, cel.IntType,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return v.ConvertToType(types.IntType) })))
		toDouble = append(toDouble,
			cel.Overload("double_of_"+name, []*cel.Type{t}, cel.DoubleType,
				cel.UnaryBinding(func(v ref.Val) ref.Val { return v.ConvertToType(types.DoubleType) })))
		opts = append(opts, cel.Function(name, cel.Overload(name+"_string", []*cel.Type{cel.StringType}, t,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return quantityOf(t, string(v.(types.String))) }))))
	}
	for op, overloads := range compare {
		opts = append(opts, cel.Function(op, overloads...))
	}
	// The standard multiplication looks at its left side only; ours lets the
	// number stand on either side.
	mul = append(mul,
		cel.Overload("multiply_int64", []*cel.Type{cel.IntType, cel.IntType}, cel.IntType),
		cel.Overload("multiply_double", []*cel.Type{cel.DoubleType, cel.DoubleType}, cel.DoubleType),
		cel.Overload("multiply_uint64", []*cel.Type{cel.UintType, cel.UintType}, cel.UintType),
		cel.SingletonBinaryBinding(func(lhs, rhs ref.Val) ref.Val {
			if q, ok := rhs.(quantity); ok {
				lhs, rhs = q, lhs
			}
			return lhs.(traits.Multiplier).Multiply(rhs)
		}, traits.MultiplierType))
	return append(opts, cel.Function("_+_", add...), cel.Function("_-_", sub...), cel.Function("_*_", mul...),
		cel.Function("_/_", div...),
		cel.Function("string", toText...), cel.Function("int", toInt...), cel.Function("double", toDouble...))
}

// Typed gives a plain value the type that its shape has in expressions.
func Typed(s resource.Shape, v any) any {
	if !s.Holds(resource.Data, resource.Span, resource.Integer, resource.Number) {
		return v
	}
	switch t := v.(type) {
	case []any:
		if s.Items == nil {
			return v // a cloud reported something else than its type says
		}
		out := make([]any, len(t))
		for i, x := range t {
			out[i] = Typed(*s.Items, x)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(t))
		for k, x := range t {
			inner := resource.Shape{Kind: resource.Open}
			if f, ok := s.Field(k); ok {
				inner = f.Shape
			} else if s.Items != nil {
				inner = *s.Items
			}
			out[k] = Typed(inner, x)
		}
		return out
	}
	return scalarOf(TypeOf(s), v)
}

// TypedAs does the same for a value whose type an expression was checked to
// have.
func TypedAs(t *cel.Type, v any) any {
	switch x := v.(type) {
	case []any:
		if t.Kind() == cel.ListKind {
			out := make([]any, len(x))
			for i, item := range x {
				out[i] = TypedAs(t.Parameters()[0], item)
			}
			return out
		}
	case map[string]any:
		if t.Kind() == cel.MapKind {
			out := make(map[string]any, len(x))
			for k, item := range x {
				out[k] = TypedAs(t.Parameters()[1], item)
			}
			return out
		}
	}
	if fields, is := v.(map[string]any); is && offersStructs[t.TypeName()] != nil {
		typed := make(map[string]any, len(fields))
		for name, of := range offersStructs[t.TypeName()] {
			typed[name] = TypedAs(of, fields[name])
		}
		return &Object{Type: t.TypeName(), Fields: typed}
	}
	if IsOptional(t) {
		return TypedAs(t.Parameters()[0], v)
	}
	return scalarOf(t, v)
}

// scalarOf turns text into a quantity, and a number that went through JSON back
// into a whole one.
func scalarOf(t *cel.Type, v any) any {
	switch x := v.(type) {
	case string:
		if t.TypeName() == AmountType.TypeName() || t.TypeName() == SpanType.TypeName() {
			return quantityOf(t, x)
		}
	case float64:
		if t.Kind() == cel.IntKind && x == math.Trunc(x) {
			return int64(x)
		}
	case int64:
		if t.Kind() == cel.DoubleKind {
			return float64(x)
		}
	}
	return v
}

func roundUp(v, step ref.Val) ref.Val {
	q, s := v.(quantity), step.(quantity)
	if s.n <= 0 {
		return types.NewErr("round_up wants a step above nothing")
	}
	steps := (q.n + s.n - 1) / s.n
	return q.of(float64(steps)*float64(s.n), steps*s.n)
}
