package expr

import (
	"cmp"
	"fmt"
	"slices"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"
)

// ordered is a mapping that is gone through by its keys: whoever computes an expression again
// gets the same, in another process too. Numbers come before texts.
type ordered struct{ traits.Mapper }

// inOrder gives a mapping its order; every other value stays as it is.
func inOrder(v ref.Val) ref.Val {
	switch m := v.(type) {
	case ordered, traits.MutableMapper, object, *literal:
		return v
	case traits.Mapper:
		return ordered{m}
	}
	return v
}

func (m ordered) keys() []ref.Val {
	var keys []ref.Val
	for it := m.Mapper.Iterator(); it.HasNext() == types.True; {
		keys = append(keys, it.Next())
	}
	slices.SortFunc(keys, compareKeys)
	return keys
}

func compareKeys(a, b ref.Val) int {
	x, isText := a.(types.String)
	y, areTexts := b.(types.String)
	if isText && areTexts {
		return cmp.Compare(x, y)
	}
	if ordering, ok := a.(traits.Comparer); ok && !isText && !areTexts {
		if n, ok := ordering.Compare(b).(types.Int); ok {
			return int(n)
		}
	}
	return cmp.Or(cmp.Compare(a.Type().TypeName(), b.Type().TypeName()),
		cmp.Compare(fmt.Sprint(a.Value()), fmt.Sprint(b.Value())))
}

// Iterator goes through the keys.
func (m ordered) Iterator() traits.Iterator {
	return types.NewRefValList(adapter{}, m.keys()).Iterator()
}

// Fold goes through keys and values.
func (m ordered) Fold(f traits.Folder) {
	only, is := f.(interface{ FoldKeyOnly() bool })
	keysOnly := is && only.FoldKeyOnly()
	for _, key := range m.keys() {
		var value any
		if !keysOnly {
			value = m.Get(key)
		}
		if !f.FoldEntry(key, value) {
			return
		}
	}
}

// IsZeroValue reports whether it is empty.
func (m ordered) IsZeroValue() bool { return m.Size() == types.IntZero }

// Equal compares with another mapping, whatever its order.
func (m ordered) Equal(other ref.Val) ref.Val {
	if o, is := other.(ordered); is {
		other = o.Mapper
	}
	return m.Mapper.Equal(other)
}

// orderedLoops lets the mappings that loops of an expression make, and that it writes out, come
// in order too: they do not go through the adapter.
func orderedLoops(a *ast.AST) interpreter.InterpretableDecoratorV2 {
	loops := map[int64]bool{}
	ast.PreOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.ComprehensionKind || e.Kind() == ast.MapKind {
			loops[e.ID()] = true
		}
	}))
	return func(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
		// What is read of a loop has its number too, and is planned otherwise.
		if _, reads := i.(interpreter.InterpretableAttribute); reads || !loops[i.ID()] {
			return i, nil
		}
		return orderedLoop{i}, nil
	}
}

type orderedLoop struct{ interpreter.InterpretableV2 }

// Exec computes the loop.
func (o orderedLoop) Exec(frame *interpreter.ExecutionFrame) ref.Val {
	return inOrder(o.InterpretableV2.Exec(frame))
}

// Eval computes the loop.
func (o orderedLoop) Eval(ctx interpreter.Activation) ref.Val {
	return interpreter.EvalActivation(ctx, o.Exec)
}

var (
	_ traits.Foldable = ordered{}
	_ traits.Zeroer   = ordered{}
)
