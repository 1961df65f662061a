package filter

// TreeNode is a filter as a tree, for builders.
type TreeNode struct {
	Operator  Operator   `json:"operator"`
	Children  []TreeNode `json:"children,omitempty"`
	Attribute string     `json:"attribute,omitempty"`
	Value     string     `json:"value,omitempty"`
	// Parts of a substrings item between its stars.
	Parts []string `json:"parts,omitempty"`
	Text  string   `json:"text"`
}

// Tree returns the filter as a tree.
func (f *Filter) Tree() TreeNode {
	node := TreeNode{Operator: f.Operator, Attribute: f.Attribute, Value: f.Value, Parts: f.Parts, Text: f.text}
	for _, child := range f.Children {
		node.Children = append(node.Children, child.Tree())
	}
	return node
}
