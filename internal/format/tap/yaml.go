package tap

import (
	"errors"
	"strings"

	"go.yaml.in/yaml/v3"
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
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(text), &doc); err != nil {
		return err
	}
	m := &measure{anchors: map[*yaml.Node]int{}}
	if m.size(&doc, 0) > mostNodes {
		return errTooMuch
	}
	return doc.Decode(into)
}

// encode writes a value as YAML.
func encode(value any) (string, error) {
	var text strings.Builder
	encoder := yaml.NewEncoder(&text)
	encoder.SetIndent(2)
	encoder.CompactSeqIndent()
	err := errors.Join(encoder.Encode(value), encoder.Close())
	return strings.TrimSpace(text.String()), err
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
type measure struct{ anchors map[*yaml.Node]int } // by the node that has an anchor: its size

// size counts the nodes of a tree with its aliases expanded; one that is too large or too deep counts as more than
// mostNodes.
func (m *measure) size(node *yaml.Node, depth int) int {
	if depth > deepest {
		return mostNodes + 1
	}
	n := 1 + m.anchors[node.Alias]
	for _, child := range node.Content {
		if n <= mostNodes {
			n += m.size(child, depth+1)
		}
	}
	n = min(n, mostNodes+1)
	if node.Anchor != "" {
		m.anchors[node] = n
	}
	return n
}
