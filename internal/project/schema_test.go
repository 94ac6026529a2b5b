package project

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// The published schema takes every project file of this repository, and
// refuses what the reader refuses for its form.
func TestThePublishedSchemaAgreesWithTheReader(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../schema/nightdrill-1.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	valid := func(text string) error {
		var doc any
		if err := yaml.Unmarshal([]byte(text), &doc); err != nil {
			return err
		}
		return schema.Validate(doc)
	}
	files, _ := filepath.Glob("../../examples/*/nightdrill.yaml")
	files = append(files, "../demo/project/nightdrill.yaml")
	if len(files) < 3 {
		t.Fatalf("only %v", files)
	}
	for _, file := range files {
		text, _ := os.ReadFile(file)
		if err := valid(string(text)); err != nil {
			t.Errorf("%s: %v", file, err)
		}
	}
	if err := valid(good); err != nil {
		t.Errorf("the good file: %v", err)
	}
	if err := valid(neighboured); err != nil {
		t.Errorf("the file with upstreams: %v", err)
	}
	if err := valid(fedProject); err != nil {
		t.Errorf("the file with brokers: %v", err)
	}
	for _, x := range wrongBrokers {
		if x.form && valid(strings.Replace(fedProject, x.from, x.to, 1)) == nil {
			t.Errorf("the schema takes %q, which the reader refuses", x.to)
		}
	}
	for _, c := range mistakes {
		if c.form && valid(strings.Replace(good, c.old, c.new, 1)) == nil {
			t.Errorf("the schema takes %q, which the reader refuses", c.new)
		}
	}
}
