// Package formula compiles, evaluates and explains formulas: CEL expressions
// over one entry. A formula sees
//
//	entry  the first value of each attribute, "" where it has none
//	all    every value of each attribute as a list
//	dn     the distinguished name
//	directory, id       the directory's name in the settings, and the entry's unchanging id
//	containers, groups  where the entry is, and which groups hold it
//
// or, of the rules by which a group of the cloud is kept in a directory,
//
//	resource  the first value of each attribute of the group's resource, such as
//	          resource.displayName or resource["urn:...:description"]
//	all       every value of each as a list
//
// besides CEL's standard definitions, the strings extension, and the functions
// that Library lists.
// Formulas are pure, bounded in cost, and safe for concurrent use.
package formula

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
	"cel.dev/cel-go/interpreter"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
)

// costLimit bounds one evaluation; a name-building formula costs about 20.
const costLimit = 100_000

// Formula is a compiled formula.
type Formula struct {
	text       string
	ast        *cel.Ast
	program    cel.Program
	explainer  cel.Program
	attributes []string
	groups     bool
}

// Fault is one thing wrong with a formula's text.
type Fault struct {
	Line, Column int // both 1-based
	Message      string
}

// CompileError lists the faults of one formula.
type CompileError struct {
	Text   string
	Faults []Fault
}

func (e *CompileError) Error() string {
	lines := make([]string, len(e.Faults))
	for i, f := range e.Faults {
		lines[i] = fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Message)
	}
	return fmt.Sprintf("formula %q: %s", e.Text, strings.Join(lines, "; "))
}

var environment = sync.OnceValues(func() (*cel.Env, error) {
	env, err := cel.NewEnv(append(functions(),
		cel.Variable("entry", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("resource", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("all", cel.MapType(cel.StringType, cel.ListType(cel.StringType))),
		cel.Variable("dn", cel.StringType),
		cel.Variable("directory", cel.StringType),
		cel.Variable("id", cel.StringType),
		ext.Strings(),
		cel.EnableMacroCallTracking(), // explanations show formulas as they were written
		cel.ClearMacros(),
		cel.Macros(macros()...),
	)...)
	if err != nil {
		return nil, err
	}
	// The checker builds its catalogue of names at the first undeclared name and
	// reads it without a lock elsewhere: built here, it is only read later.
	_, _ = env.Compile("undeclared")
	return env, nil
})

// macros are CEL's standard ones, with a has() that asks for a value that is not
// empty: every attribute name is present in entry and all.
func macros() []cel.Macro {
	kept := slices.DeleteFunc(slices.Clone(cel.StandardMacros), func(m cel.Macro) bool { return m.Function() == "has" })
	kept = append(kept, cel.GlobalMacro("inGroup", 1, func(make cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
		return make.NewCall("inList", args[0], make.NewIdent("groups")), nil
	}))
	return append(kept, cel.GlobalMacro("has", 1, func(make cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
		if args[0].Kind() != ast.SelectKind {
			return nil, make.NewError(args[0].ID(), "has() takes an attribute, as in has(entry.title)")
		}
		return make.NewCall("_>_", make.NewCall("size", args[0]), make.NewLiteral(types.Int(0))), nil
	}))
}

// Compile checks a formula. Its result must be a text, a truth value, a whole
// number or a list of texts; faults come as a *CompileError.
func Compile(text string) (*Formula, error) { return compile(text, overEntry) }

// CompileOfResource is Compile for a formula over a resource of the cloud, which is
// evaluated on an entry that has the resource's attributes (entry.Resource.Flat).
func CompileOfResource(text string) (*Formula, error) { return compile(text, overResource) }

// What a formula reads, by the name that it has there.
const (
	overEntry    = "entry"
	overResource = "resource"
)

func compile(text, over string) (*Formula, error) {
	env, err := environment()
	if err != nil {
		return nil, fmt.Errorf("set up the formula language: %w", err)
	}
	compiled, issues := env.Compile(text)
	if issues.Err() != nil {
		failure := &CompileError{Text: text}
		for _, e := range issues.Errors() {
			failure.Faults = append(failure.Faults, Fault{Line: e.Location.Line(), Column: e.Location.Column() + 1, Message: e.Message})
		}
		return nil, failure
	}
	switch kind := compiled.OutputType(); {
	case kind.IsExactType(cel.StringType), kind.IsExactType(cel.BoolType), kind.IsExactType(cel.IntType),
		kind.IsExactType(cel.ListType(cel.StringType)), kind.IsExactType(cel.DynType):
	default:
		return nil, &CompileError{Text: text, Faults: []Fault{{1, 1, fmt.Sprintf("gives %s; an attribute takes a text, a truth value, a whole number or a list of texts", kind)}}}
	}
	f := &Formula{text: text, ast: compiled}
	if f.attributes, err = attributesOf(text, over, compiled); err != nil {
		return nil, err
	}
	f.groups = slices.Contains(f.attributes, asksForGroups)
	f.attributes = slices.DeleteFunc(f.attributes, func(name string) bool { return name == asksForGroups })
	if f.program, err = env.Program(compiled, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(costLimit)); err != nil {
		return nil, &CompileError{Text: text, Faults: []Fault{{1, 1, err.Error()}}}
	}
	if f.explainer, err = env.Program(compiled, cel.EvalOptions(cel.OptTrackState), cel.CostLimit(costLimit)); err != nil {
		return nil, &CompileError{Text: text, Faults: []Fault{{1, 1, err.Error()}}}
	}
	return f, nil
}

// asksForGroups stands among the attributes of a formula that reads groups; no
// attribute can have this name.
const asksForGroups = "(groups)"

// attributesOf finds the attributes a formula reads, since the directory is
// asked for nothing else; a computed name is therefore a fault.
func attributesOf(text, over string, compiled *cel.Ast) ([]string, error) {
	var names []string
	var faults []Fault
	fault := func(e ast.Expr, message string) {
		location := compiled.NativeRep().SourceInfo().GetStartLocation(e.ID())
		faults = append(faults, Fault{location.Line(), location.Column() + 1, message})
	}
	named := map[int64]bool{}
	isHolder := func(e ast.Expr) bool {
		return e.Kind() == ast.IdentKind && slices.Contains([]string{overEntry, overResource, "all"}, e.AsIdent())
	}
	ast.PreOrderVisit(compiled.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		switch {
		case e.Kind() == ast.SelectKind && isHolder(e.AsSelect().Operand()):
			names = append(names, e.AsSelect().FieldName())
			named[e.AsSelect().Operand().ID()] = true
		case e.Kind() == ast.CallKind && len(e.AsCall().Args()) == 2 && isHolder(e.AsCall().Args()[0]):
			call := e.AsCall()
			if name, ok := call.Args()[1], call.FunctionName() == "_[_]"; ok && name.Kind() == ast.LiteralKind {
				names = append(names, fmt.Sprint(name.AsLiteral().Value()))
				named[call.Args()[0].ID()] = true
			}
		case e.Kind() == ast.IdentKind && over == overResource && slices.Contains([]string{overEntry, "dn", "id", "containers", "groups"}, e.AsIdent()):
			fault(e, e.AsIdent()+" is of an entry; here a group of the cloud is read, as in resource.displayName")
		case e.Kind() == ast.IdentKind && over == overEntry && e.AsIdent() == overResource:
			fault(e, "resource is of rules for groups of the cloud; here an entry is read, as in entry.title")
		case e.Kind() == ast.IdentKind && e.AsIdent() == "groups":
			names = append(names, asksForGroups)
		case isHolder(e) && !named[e.ID()]:
			fault(e, "name the attribute literally, as in "+over+".title, so that Kambrel knows what it reads")
		}
	}))
	if len(faults) > 0 {
		return nil, &CompileError{Text: text, Faults: faults}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// String returns the formula's text.
func (f *Formula) String() string { return f.text }

// Attributes lists the attributes the formula reads.
func (f *Formula) Attributes() []string { return f.attributes }

// AsksForGroups tells whether the formula reads the groups that hold the entry.
func (f *Formula) AsksForGroups() bool { return f.groups }

// Bool tells whether the formula always gives a truth value.
func (f *Formula) Bool() bool { return f.Gives() == Truth }

// Kind is what a formula gives.
type Kind string

// The kinds; Any is known only when it is worked out.
const (
	Text   Kind = "text"
	Truth  Kind = "truth value"
	Number Kind = "whole number"
	List   Kind = "list of texts"
	Any    Kind = "value"
)

// Gives tells what kind of value the formula gives.
func (f *Formula) Gives() Kind {
	switch kind := f.ast.OutputType(); {
	case kind.IsExactType(cel.StringType):
		return Text
	case kind.IsExactType(cel.BoolType):
		return Truth
	case kind.IsExactType(cel.IntType):
		return Number
	case kind.IsExactType(cel.ListType(cel.StringType)):
		return List
	}
	return Any
}

// Evaluate works the formula out on an entry. The value is a string, bool,
// int64 or []string; nil stands for no value.
func (f *Formula) Evaluate(e entry.Entry) (any, error) {
	out, _, err := f.program.Eval(&activation{e})
	if err != nil {
		seen := make([]string, len(f.attributes))
		for i, name := range f.attributes {
			seen[i] = fmt.Sprintf("%s is %q", name, e.Attributes.All(name))
		}
		return nil, fmt.Errorf("%w (%s)", err, strings.Join(seen, ", "))
	}
	return native(out)
}

func native(value ref.Val) (any, error) {
	switch v := value.(type) {
	case types.String:
		if v == "" {
			return nil, nil
		}
		return string(v), nil
	case types.Bool:
		return bool(v), nil
	case types.Int:
		return int64(v), nil
	case types.Null:
		return nil, nil
	}
	list, err := value.ConvertToNative(stringsType)
	if err != nil {
		return nil, fmt.Errorf("gives %s, which no attribute takes", value.Type().TypeName())
	}
	texts := list.([]string)
	if len(texts) == 0 {
		return nil, nil
	}
	return texts, nil
}

// Explain works the formula out and tells the value of every sub-expression, as
// a tree in the form of the formula.
func (f *Formula) Explain(e entry.Entry) reason.Node {
	node := reason.Node{Text: f.text, Outcome: reason.Note}
	out, details, err := f.explainer.Eval(&activation{e})
	if err != nil {
		node.Outcome, node.Value = reason.Bad, err.Error()
	} else {
		node.Value = show(out)
	}
	if details == nil || details.State() == nil {
		return node
	}
	parts := explainer{f.ast.NativeRep(), details.State()}
	node.Children = parts.below(f.ast.NativeRep().Expr())
	parts.decide(f.ast.NativeRep().Expr(), node.Children)
	return node
}

// explainer tells the values of an expression's parts in one evaluation.
type explainer struct {
	tree  *ast.AST
	state interpreter.EvalState
}

// below are the parts of an expression that have a value of interest: what an
// entry has, and what is made of that. Parts that were not asked are left out.
func (x explainer) below(expr ast.Expr) []reason.Node {
	var nodes []reason.Node
	for _, operand := range x.operands(expr) {
		nodes = append(nodes, x.nodes(operand)...)
	}
	return nodes
}

// operands are the parts of an expression as it was written: macros stand for
// what they were called with.
func (x explainer) operands(expr ast.Expr) []ast.Expr {
	if macro, ok := x.tree.SourceInfo().GetMacroCall(expr.ID()); ok {
		expr = macro
		if call := expr.AsCall(); call.IsMemberFunction() {
			return []ast.Expr{call.Target()} // within a loop, only the last value is known
		}
	}
	switch expr.Kind() {
	case ast.CallKind:
		call := expr.AsCall()
		operands := call.Args()
		if call.IsMemberFunction() {
			operands = append([]ast.Expr{call.Target()}, operands...)
		}
		return operands
	case ast.SelectKind:
		return []ast.Expr{expr.AsSelect().Operand()}
	case ast.ListKind:
		return expr.AsList().Elements()
	}
	return nil
}

// nodes is the node of an expression, or those of its parts where it is no
// statement of its own, such as a list that is written out.
func (x explainer) nodes(expr ast.Expr) []reason.Node {
	children := x.below(expr)
	value, known := x.state.Value(expr.ID())
	_, macro := x.tree.SourceInfo().GetMacroCall(expr.ID())
	text, err := cel.ExprToString(expr, x.tree.SourceInfo())
	if kind := expr.Kind(); !known || err != nil || kind != ast.SelectKind && kind != ast.CallKind && !macro {
		return children
	}
	node := reason.Node{Text: text, Outcome: reason.Note, Value: show(value), Children: children}
	if truth, ok := value.(types.Bool); ok {
		node.Outcome = reason.Of(bool(truth))
	}
	x.decide(expr, node.Children)
	return []reason.Node{node}
}

// decide marks the operand that alone made a conjunction false or a disjunction
// true.
func (x explainer) decide(expr ast.Expr, operands []reason.Node) {
	if expr.Kind() != ast.CallKind {
		return
	}
	decisive := reason.No
	switch expr.AsCall().FunctionName() {
	case operators.LogicalAnd:
	case operators.LogicalOr:
		decisive = reason.Yes
	default:
		return
	}
	for i := range operands {
		if operands[i].Outcome == decisive {
			operands[i].Deciding = true
			return
		}
	}
}

func show(value ref.Val) string {
	if types.IsUnknownOrError(value) {
		return fmt.Sprint(value)
	}
	plain, err := native(value)
	switch v := plain.(type) {
	case nil:
		if err != nil {
			return err.Error()
		}
		return `""`
	case string:
		return strconv.Quote(v)
	case []string:
		return strings.Join(v, " | ")
	default:
		return fmt.Sprint(v)
	}
}
