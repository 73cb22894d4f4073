package expr

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// Absent is the result of an optional expression that has no value.
var Absent = absent{}

type absent struct{}

// Vars are the values of names. A scope inside another adds names to it without
// copying it.
type Vars struct {
	own   map[string]any
	above *Vars
}

// NewVars begins a scope with no names.
func NewVars() *Vars { return &Vars{own: map[string]any{}} }

// With gives a scope inside this one. Names that are set in the outer one later
// are seen too.
func (v *Vars) With(names map[string]any) *Vars { return &Vars{own: names, above: v} }

// Set gives a name its value.
func (v *Vars) Set(name string, value any) { v.own[name] = value }

// Get finds the value of a name.
func (v *Vars) Get(name string) (any, bool) {
	for s := v; s != nil; s = s.above {
		if x, ok := s.own[name]; ok {
			return x, true
		}
	}
	return nil, false
}

// ResolveName and Parent let the interpreter read the names.
func (v *Vars) ResolveName(name string) (any, bool) { return v.Get(name) }

// Parent is nil: Get has looked everywhere.
func (v *Vars) Parent() cel.Activation { return nil }

// Object is a value of a struct type. Fields hold plain values, Unresolved
// leaves, other Objects, or ref.Val. A field that is not there reads as null.
type Object struct {
	Type   string
	Fields map[string]any
	// Source, when set, gives the fields instead.
	Source Source
	// Optional makes every field an optional: with a value while Present holds, else none.
	Optional, Present bool
	// Name tells the object from others of its type; Reader, when set, hears of
	// every field that an expression reads.
	Name   string
	Reader Reader
	native *offer.Offers // behind the name `offers`
}

// Source gives the fields of an object when they are read; nil for one that is
// not there.
type Source interface{ Field(name string) any }

func (o *Object) field(name string) any {
	if o.Source != nil {
		return o.Source.Field(name)
	}
	return o.Fields[name]
}

// Reader hears which fields of an object are read.
type Reader interface{ Read(o *Object, field string) }

// object shows an Object to the interpreter.
type object struct{ *Object }

func (o object) ConvertToNative(reflect.Type) (any, error) { return nil, o.whole() }
func (o object) ConvertToType(t ref.Type) ref.Val {
	if t == types.TypeType {
		return types.NewObjectType(o.Object.Type)
	}
	return types.WrapErr(o.whole())
}
func (o object) Equal(other ref.Val) ref.Val {
	b, ok := other.(object)
	return types.Bool(ok && b.Object == o.Object)
}
func (o object) Type() ref.Type { return types.NewObjectType(o.Object.Type) }
func (o object) Value() any     { return o.Object }
func (o object) whole() error {
	return fmt.Errorf("a whole %s cannot be used as a value; name one of its fields", o.Object.Type)
}

// data gives an object that is nothing but data, such as what offers tell, as a mapping.
func (o object) data() (any, error) {
	if o.Source != nil || o.Reader != nil || o.native != nil || o.Optional || offersStructs[o.Object.Type] == nil {
		return nil, o.whole()
	}
	out := make(map[string]any, len(o.Fields))
	for name, field := range o.Fields {
		inner, err := fromVal(adapter{}.NativeToValue(field))
		if err != nil {
			return nil, err
		}
		out[name] = inner
	}
	return out, nil
}

func (o object) Get(index ref.Val) ref.Val {
	name, ok := index.(types.String)
	if !ok {
		return types.NewErr("no such field")
	}
	if o.Optional && !o.Present {
		return types.OptionalNone
	}
	// The source comes first: computing a field again may change what stands
	// behind it.
	v := adapter{}.NativeToValue(o.field(string(name)))
	if o.Reader != nil {
		o.Reader.Read(o.Object, string(name))
	}
	if o.Optional && !types.IsUnknown(v) {
		return types.OptionalOf(v)
	}
	return v
}
func (o object) IsSet(field ref.Val) ref.Val {
	name, _ := field.(types.String)
	return types.Bool(o.field(string(name)) != nil)
}

var (
	_ traits.Indexer     = object{}
	_ traits.FieldTester = object{}
)

// adapter turns plain values into values of the interpreter.
type adapter struct{}

// NativeToValue adapts one value; trees are adapted lazily, as they are read.
func (a adapter) NativeToValue(v any) ref.Val {
	switch t := v.(type) {
	case *Object:
		return object{t}
	case resource.Unresolved:
		return unknown(t)
	case ref.Val:
		return t
	case absent:
		return types.OptionalNone
	case map[string]any:
		return inOrder(types.NewStringInterfaceMap(a, t))
	case []any:
		return types.NewDynamicList(a, t)
	}
	if entries, is := v.(map[ref.Val]ref.Val); is {
		return inOrder(types.NewRefValMap(a, entries))
	}
	return inOrder(types.DefaultTypeAdapter.NativeToValue(v))
}

const secretMark = "secret:"

// unknown turns an unresolved leaf into the interpreter's unknown, one
// attribute trail for each thing it waits for.
func unknown(u resource.Unresolved) ref.Val {
	var out *types.Unknown
	add := func(name string) {
		next := types.NewUnknown(1, types.NewAttributeTrail(name))
		if out == nil {
			out = next
		} else {
			out = types.MergeUnknowns(out, next)
		}
	}
	for _, w := range u.Waits {
		add(w)
	}
	for _, s := range u.Secrets {
		add(secretMark + s)
	}
	if out == nil {
		return types.NewErr("unresolved value that waits for nothing")
	}
	return out
}

func unresolved(u *types.Unknown) resource.Unresolved {
	var out resource.Unresolved
	for _, id := range u.IDs() {
		trails, _ := u.GetAttributeTrails(id)
		for _, trail := range trails {
			if name, ok := strings.CutPrefix(trail.Variable(), secretMark); ok {
				out.Secrets = append(out.Secrets, name)
			} else {
				out.Waits = append(out.Waits, trail.Variable())
			}
		}
	}
	slices.Sort(out.Waits)
	slices.Sort(out.Secrets)
	out.Waits, out.Secrets = slices.Compact(out.Waits), slices.Compact(out.Secrets)
	return out
}

func fromVal(v ref.Val) (any, error) {
	switch t := v.(type) {
	case *types.Unknown:
		return unresolved(t), nil
	case *types.Err:
		return nil, t
	case types.String:
		return string(t), nil
	case types.Int:
		return int64(t), nil
	case types.Double:
		return float64(t), nil
	case types.Bool:
		return bool(t), nil
	case types.Null:
		return nil, nil
	case quantity:
		return t.String(), nil
	case *types.Optional:
		if !t.HasValue() {
			return Absent, nil
		}
		return fromVal(t.GetValue())
	case *literal:
		out := map[string]any{}
		for name, field := range t.fields {
			inner, err := fromVal(field)
			if err != nil {
				return nil, err
			}
			out[name] = inner
		}
		return out, nil
	case object:
		return t.data()
	case traits.Mapper:
		out := map[string]any{}
		for it := t.Iterator(); it.HasNext() == types.True; {
			key := it.Next()
			inner, err := fromVal(t.Get(key))
			if err != nil {
				return nil, err
			}
			out[fmt.Sprint(key.Value())] = inner
		}
		return out, nil
	case traits.Lister:
		out := []any{}
		for it := t.Iterator(); it.HasNext() == types.True; {
			inner, err := fromVal(it.Next())
			if err != nil {
				return nil, err
			}
			if inner != any(Absent) {
				out = append(out, inner)
			}
		}
		return out, nil
	}
	return nil, fmt.Errorf("a value of type %s cannot be used here", v.Type().TypeName())
}

// literal is a typed literal such as firewall_rule{from: z, port: 22}.
type literal struct {
	typeName string
	fields   map[string]ref.Val
}

func (l *literal) ConvertToNative(reflect.Type) (any, error) { return l.fields, nil }
func (l *literal) ConvertToType(ref.Type) ref.Val            { return types.NewErr("no conversion") }
func (l *literal) Type() ref.Type                            { return types.NewObjectType(l.typeName) }
func (l *literal) Value() any                                { return l.fields }
func (l *literal) Equal(other ref.Val) ref.Val {
	o, ok := other.(*literal)
	return types.Bool(ok && maps.EqualFunc(l.fields, o.fields,
		func(a, b ref.Val) bool { return a.Equal(b) == types.True }))
}
func (l *literal) Get(index ref.Val) ref.Val {
	name, _ := index.(types.String)
	if v, ok := l.fields[string(name)]; ok {
		return v
	}
	return types.NullValue
}

// provider tells the checker which struct types there are.
type provider struct {
	structs map[string]map[string]*cel.Type
	base    types.Provider
}

func (p *provider) EnumValue(name string) ref.Val         { return p.base.EnumValue(name) }
func (p *provider) FindIdent(name string) (ref.Val, bool) { return p.base.FindIdent(name) }
func (p *provider) FindStructType(name string) (*cel.Type, bool) {
	if _, ok := p.structs[name]; ok {
		return types.NewTypeTypeWithParam(cel.ObjectType(name)), true
	}
	return p.base.FindStructType(name)
}
func (p *provider) FindStructFieldNames(name string) ([]string, bool) {
	fields, ok := p.structs[name]
	return slices.Sorted(maps.Keys(fields)), ok
}
func (p *provider) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	t, ok := p.structs[name][field]
	if !ok {
		return nil, false
	}
	return &types.FieldType{Type: t}, true
}
func (p *provider) NewValue(name string, fields map[string]ref.Val) ref.Val {
	// An unknown in a field must not be lost, nor hide the others.
	var merged *types.Unknown
	for _, f := range slices.Sorted(maps.Keys(fields)) {
		if types.IsError(fields[f]) {
			return fields[f]
		}
		merged, _ = types.MaybeMergeUnknowns(fields[f], merged)
	}
	if merged != nil {
		return merged
	}
	return &literal{typeName: name, fields: fields}
}

// Some gives the value of an optional that is there.
func Some(v any) any {
	inner := adapter{}.NativeToValue(v)
	if types.IsUnknown(inner) {
		return inner
	}
	return types.OptionalOf(inner)
}

// HoldsUnknown reports whether something of a value that expressions read is not known.
func HoldsUnknown(v any) bool {
	switch t := v.(type) {
	case resource.Unresolved, *types.Unknown:
		return true
	case []any:
		return slices.ContainsFunc(t, HoldsUnknown)
	case map[string]any:
		for _, x := range t {
			if HoldsUnknown(x) {
				return true
			}
		}
	}
	return false
}

// HoldsSecret reports whether a value that expressions read is made with a
// secret whose value is not in it.
func HoldsSecret(v any) bool {
	switch t := v.(type) {
	case resource.Unresolved:
		return len(t.Secrets) > 0
	case *types.Unknown:
		return len(unresolved(t).Secrets) > 0
	case []any:
		return slices.ContainsFunc(t, HoldsSecret)
	case map[string]any:
		for _, x := range t {
			if HoldsSecret(x) {
				return true
			}
		}
	}
	return false
}
