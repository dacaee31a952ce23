package tap

import (
	"errors"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Bounds of the YAML of one point: aliases repeat what their anchors name, so that a few hundred bytes of aliases
// to aliases can expand to more than any memory holds.
const (
	deepest   = 50
	mostNodes = 10_000 // with the expansion of aliases
)

var errTooMuch = errors.New("it is nested too deeply, or expands to too much")

// decode reads a point's YAML into a value.
func decode(text string, into any) error {
	if len(text) > longestYAML || nesting(text) > deepest {
		return errTooMuch
	}
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return err
	}
	m := &measure{anchors: map[string]int{}}
	for _, doc := range file.Docs {
		if m.size(doc.Body, 0) > mostNodes {
			return errTooMuch
		}
	}
	return yaml.Unmarshal([]byte(text), into)
}

// nesting returns a lower bound of how deeply brackets and list signs are nested, also inside of strings.
func nesting(text string) int {
	deep, open := 0, 0
	for line := range strings.Lines(text) {
		signs := 0
		for _, word := range strings.Fields(line) {
			if word != "-" && word != "?" && word != ":" {
				break
			}
			signs++
		}
		deep = max(deep, signs)
		for _, r := range line {
			switch r {
			case '[', '{':
				open++
			case ']', '}':
				open = max(0, open-1)
			}
			deep = max(deep, open)
		}
	}
	return deep
}

// measure counts the nodes of a document.
type measure struct{ anchors map[string]int }

// size counts the nodes of a tree with its aliases expanded; one that is too large or too deep counts as more than
// mostNodes.
func (m *measure) size(node ast.Node, depth int) int {
	if depth > deepest {
		return mostNodes + 1
	}
	n := 1
	add := func(nodes ...ast.Node) {
		for _, node := range nodes {
			if node != nil && n <= mostNodes {
				n += m.size(node, depth+1)
			}
		}
	}
	switch node := node.(type) {
	case *ast.AnchorNode:
		add(node.Value)
		m.anchors[node.Name.String()] = n
	case *ast.AliasNode:
		n += m.anchors[node.Value.String()]
	case *ast.MappingNode:
		for _, value := range node.Values {
			add(value)
		}
	case *ast.MappingValueNode:
		add(node.Key, node.Value)
	case *ast.SequenceNode:
		add(node.Values...)
	case *ast.TagNode:
		add(node.Value)
	}
	return min(n, mostNodes+1)
}
