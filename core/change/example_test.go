package change_test

import (
	"encoding/json"
	"fmt"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
)

func ExamplePatch() {
	resource := entry.Resource{"id": "r1", "title": "Mate"}
	diffs := []change.Diff{
		{Target: "title", Before: "Mate", After: "Master", Source: "from title"},
		{Target: `emails[type eq "work"].value`, After: "ada@halvard.example", Source: "from mail"},
	}
	operations, err := change.Patch(resource, diffs)
	text, _ := json.Marshal(operations)
	fmt.Println(string(text), err)
	for _, node := range change.Explain(diffs) {
		fmt.Println(node.Text+":", node.Value)
	}
	// Output:
	// [{"op":"replace","path":"title","value":"Master"},{"op":"add","path":"emails","value":[{"primary":true,"type":"work","value":"ada@halvard.example"}]}] <nil>
	// title: Mate -> Master
	// emails[type eq "work"].value: (nothing) -> ada@halvard.example
}

func ExampleSame() {
	fmt.Println(change.Same(float64(1_000_000), int64(1_000_000)), change.Same(nil, ""), change.Same([]any{"a"}, []string{"a", "b"}))
	// Output:
	// true true false
}
