package connector

import (
	"math"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"
)

// What one expression may take. A mapping of a long record takes a few hundred units of cost; what goes beyond these
// is a mistake or an attack.
const (
	maxCost     = 1_000_000  // work, in CEL's cost units
	maxElements = 64_000_000 // characters of texts and elements of lists, all that come up added together
	maxReplaced = 8_000_000  // characters that replacing may give; CEL counts them only when they are there
)

// ourFunctions are those that CEL does not know the cost of.
var ourFunctions = []string{"amount", "decimal", "number", "words", "cut", "moment", "written", "joined", "several", "abreast", "first",
	"lookup",
	"edi", "edis", "groups", "before", "digest"}

// bounds are the options with which every expression runs.
func bounds() []cel.ProgramOption {
	return []cel.ProgramOption{cel.CostLimit(maxCost), cel.MemoryLimit(maxElements), cel.CostTracking(costOfOurs{}),
		cel.CustomDecoratorV2(boundReplacing), cel.EvalOptions(cel.OptOptimize)}
}

// costOfOurs says what our own functions cost: one unit, and one for ten characters or elements that they are given.
type costOfOurs struct{}

// CallCost implements cost.ActualCostEstimator; nil leaves a function to CEL.
func (costOfOurs) CallCost(function, _ string, args []ref.Val, _ ref.Val) *uint64 {
	if !slices.Contains(ourFunctions, function) {
		return nil
	}
	cost := uint64(1)
	for _, a := range args {
		switch x := a.(type) {
		case types.String:
			cost += uint64(len(x)) / 10
		case interface{ Size() ref.Val }:
			if n, ok := x.Size().(types.Int); ok {
				cost += uint64(n) / 10
			}
		}
	}
	return &cost
}

// boundReplacing lets replace fail before it makes a text beyond all bounds: one step could turn two texts of a
// megabyte into one of a terabyte.
func boundReplacing(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
	call, ok := i.(interpreter.InterpretableCall)
	if !ok || call.Function() != "replace" || len(call.Args()) < 3 {
		return i, nil
	}
	return replacing{call}, nil
}

type replacing struct{ interpreter.InterpretableCall }

// Exec implements interpreter.InterpretableV2.
func (r replacing) Exec(frame *interpreter.ExecutionFrame) ref.Val {
	var text [3]string
	limit := int64(math.MaxInt64)
	for i, arg := range r.Args() {
		v := arg.Exec(frame)
		switch x := v.(type) {
		case types.String:
			if i < len(text) {
				text[i] = string(x)
			}
		case types.Int:
			if x >= 0 {
				limit = int64(x)
			}
		default:
			return types.MaybeNoSuchOverloadErr(v)
		}
	}
	times := min(int64(strings.Count(text[0], text[1])), limit)
	if int64(len(text[0]))+times*int64(len(text[2])) > maxReplaced {
		return types.NewErr("replacing would give a text of more than %d characters", maxReplaced)
	}
	return types.String(strings.Replace(text[0], text[1], text[2], int(min(times, math.MaxInt32))))
}

// Eval implements interpreter.Interpretable.
func (r replacing) Eval(vars interpreter.Activation) ref.Val {
	if frame, ok := vars.(*interpreter.ExecutionFrame); ok {
		return r.Exec(frame)
	}
	return r.InterpretableCall.Eval(vars)
}
