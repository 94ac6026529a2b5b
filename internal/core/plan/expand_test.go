package plan

import "testing"

// Every variant is a function of its own, with a source that leads to it in the
// place of its function; what the project has keeps its place.
func TestStanding(t *testing.T) {
	p := &Project{
		Functions: []Function{{Name: "quote", Variants: []Function{{Name: "quote@node"}, {Name: "quote@small"}}},
			{Name: "audit"}, {Name: "lone", Variants: []Function{{Name: "lone@x"}}}},
		Sources: []Source{
			{Name: "fares", Wires: []Wire{{To: 0}, {To: 1}, {To: 0}}},
			{Name: "scans", Kind: Queue, Wires: []Wire{{To: 1}}, DeadLetter: 2},
			{Name: "refused", Kind: Queue},
		},
	}
	s := Expand(p)
	if len(p.Functions) != 3 || len(p.Sources) != 3 {
		t.Fatal("the project itself was changed")
	}
	names := ""
	for i, f := range s.Functions {
		names += f.Name + ">" + s.Functions[s.Of[i]].Name + " "
	}
	if names != "quote>quote audit>audit lone>lone quote@node>quote quote@small>quote lone@x>lone " {
		t.Errorf("functions %s", names)
	}
	node := s.FunctionNamed("quote@node")
	way, ok := s.Way(0, node)
	if !ok || s.From[way] != 0 || s.Sources[way].Name != "fares" {
		t.Fatalf("the way to quote@node is %d, %v", way, ok)
	}
	if w := s.Sources[way].Wires; w[0].To != node || w[1].To != 1 || w[2].To != node {
		t.Errorf("its wires lead to %v", w)
	}
	if s.Sources[0].Wires[0].To != 0 {
		t.Error("the source's own wires were changed")
	}
	if _, ok := s.Way(1, node); ok {
		t.Error("a source that does not lead to quote has a way to its variant")
	}
	if s.SourceNamed("fares") != 0 {
		t.Error("the name of a source means the project's own")
	}
}
