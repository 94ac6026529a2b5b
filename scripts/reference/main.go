// Reference writes the pages of the reference to a folder, from what they describe: the commands, the schema of the
// project file, the types that are written as JSON, and the words.
package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nightdrill.dev/internal/cli"
	"nightdrill.dev/internal/core/words"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "reference:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("expected the folder to write to, got %q", args)
	}
	settings, err := settingsPage("schema/nightdrill-1.schema.json")
	if err != nil {
		return err
	}
	formats, err := formatsPage()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(args[0], 0o755); err != nil {
		return err
	}
	for name, text := range map[string]string{"commands.md": commandsPage(cli.Command()), "settings.md": settings,
		"formats.md": formats, "words.md": wordsPage()} {
		if err := os.WriteFile(filepath.Join(args[0], name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

const made = "`make reference` writes this page.\n\n"

// cell returns a text as it may stand in a table.
func cell(text string) string {
	return strings.NewReplacer("|", "\\|", "\n", " ", "<", "&lt;").Replace(strings.TrimSpace(text))
}

func wordsPage() string {
	var b strings.Builder
	b.WriteString("# Words\n\nWhat screens, commands and pages mean by them; `nightdrill words WORD` prints one. " +
		"" + made +
		"| word | meaning |\n| --- | --- |\n")
	for _, w := range words.All {
		fmt.Fprintf(&b, "| %s | %s |\n", w.Name, cell(w.Meaning))
	}
	return b.String()
}

// commandsPage describes each command with its flags; what --help prints.
func commandsPage(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString("# Commands\n\nWhat `nightdrill COMMAND --help` prints. " + made + "## Flags of all commands\n\n")
	flags(&b, root.PersistentFlags())
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			if sub.Hidden || sub.Name() == "help" {
				continue
			}
			if sub.Runnable() {
				fmt.Fprintf(&b, "## %s\n\n%s.\n\n```\n%s\n```\n\n", sub.CommandPath(),
					strings.TrimRight(sub.Short, "."), sub.UseLine())
				if sub.Long != "" && sub.Long != sub.Short {
					fmt.Fprintf(&b, "```text\n%s\n```\n\n", strings.TrimSpace(sub.Long))
				}
				flags(&b, sub.NonInheritedFlags())
			}
			walk(sub)
		}
	}
	walk(root)
	return strings.TrimRight(b.String(), "\n") + "\n"
}

func flags(b *strings.Builder, of *pflag.FlagSet) {
	var rows []string
	of.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		value := f.DefValue
		if value == "[]" || value == "false" {
			value = ""
		}
		rows = append(rows, fmt.Sprintf("| `--%s` | %s | %s |\n", f.Name, cell(value), cell(f.Usage)))
	})
	if rows != nil {
		b.WriteString("| flag | default | |\n| --- | --- | --- |\n" + strings.Join(rows, "") + "\n")
	}
}

// schema is what of a JSON Schema says which settings there are.
type schema struct {
	Ref                  string             `json:"$ref"`
	Type                 any                `json:"type"`
	Description          string             `json:"description"`
	Properties           map[string]*schema `json:"properties"`
	Required             []string           `json:"required"`
	Enum                 []any              `json:"enum"`
	Const                any                `json:"const"`
	Items                *schema            `json:"items"`
	OneOf                []*schema          `json:"oneOf"`
	AnyOf                []*schema          `json:"anyOf"`
	AllOf                []*schema          `json:"allOf"`
	AdditionalProperties *schema            `json:"additionalProperties"`
	Defs                 map[string]*schema `json:"$defs"`
}

// UnmarshalJSON also takes true and false, which say nothing about settings.
func (s *schema) UnmarshalJSON(content []byte) error {
	if string(content) == "true" || string(content) == "false" {
		return nil
	}
	type plain schema
	return json.Unmarshal(content, (*plain)(s))
}

func settingsPage(path string) (string, error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	root := &schema{}
	if err := json.Unmarshal(content, root); err != nil {
		return "", fmt.Errorf("%s: %w", path, err)
	}
	var b strings.Builder
	b.WriteString("# Settings of the project file\n\nEach setting of `nightdrill.yaml`, from its published schema " +
		"(`schema/nightdrill-1.schema.json`), which editors\nread. [The project file](../project-file.md) explains " +
		"them. " +
		made)
	section := func(title string, s *schema) {
		var rows []string
		collect(s, "", &rows, map[string]bool{})
		if rows != nil {
			fmt.Fprintf(&b, "## %s\n\n| setting | value | |\n| --- | --- | --- |\n%s\n", title, strings.Join(rows, ""))
			return
		}
		fmt.Fprintf(&b, "## %s\n\n", title)
		if s.Description != "" {
			b.WriteString(strings.TrimSpace(s.Description) + "\n\n")
		}
		if v := valueOf(s); v != "" {
			b.WriteString("Value: " + v + ".\n\n")
		}
	}
	section("The file", root)
	for _, name := range slices.Sorted(maps.Keys(root.Defs)) {
		section(name, root.Defs[name])
	}
	return strings.TrimRight(b.String(), "\n") + "\n", nil
}

// collect adds a row for each setting of an object, and those of the objects in it.
func collect(s *schema, under string, rows *[]string, seen map[string]bool) {
	for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
		p := s.Properties[name]
		at := under + name
		must := ""
		if slices.Contains(s.Required, name) {
			must = "needed. "
		}
		row := fmt.Sprintf("| `%s` | %s | %s |\n", at, cell(valueOf(p)), cell(must+p.Description))
		if !seen[row] {
			seen[row] = true
			*rows = append(*rows, row)
		}
		collect(p, at+".", rows, seen)
		if p.Items != nil {
			collect(p.Items, at+"[].", rows, seen)
		}
		if p.AdditionalProperties != nil {
			collect(p.AdditionalProperties, at+".NAME.", rows, seen)
		}
	}
	for _, other := range slices.Concat(s.OneOf, s.AnyOf, s.AllOf) {
		collect(other, under, rows, seen)
	}
}

// valueOf describes what a setting may be.
func valueOf(s *schema) string {
	name := func(ref string) string {
		ref = strings.TrimPrefix(ref, "#/$defs/")
		if of, rest, inside := strings.Cut(ref, "/"); inside {
			return "as `" + rest[strings.LastIndexByte(rest,
				'/')+1:] + "` of [" + of + "](#" + strings.ToLower(of) + ")"
		}
		return "[" + ref + "](#" + strings.ToLower(ref) + ")"
	}
	switch {
	case s.Ref != "":
		return name(s.Ref)
	case s.Const != nil:
		return fmt.Sprintf("`%v`", s.Const)
	case s.Enum != nil:
		var all []string
		for _, v := range s.Enum {
			if text := fmt.Sprintf("`%v`", v); !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
		return strings.Join(all, ", ")
	case s.Items != nil:
		return "a list of " + cmp.Or(valueOf(s.Items), "values")
	case s.AdditionalProperties != nil && s.AdditionalProperties.Ref != "":
		return "names, each with " + name(s.AdditionalProperties.Ref)
	}
	var all []string
	for _, other := range slices.Concat(s.OneOf, s.AnyOf) {
		if v := valueOf(other); v != "" && !slices.Contains(all, v) {
			all = append(all, v)
		}
	}
	if all != nil {
		return strings.Join(all, " or ")
	}
	switch t := s.Type.(type) {
	case string:
		return map[string]string{"object": "an object", "string": "text", "integer": "a whole number",
			"number":  "a number",
			"boolean": "`true` or `false`"}[t]
	case []any:
		return strings.Trim(fmt.Sprint(t), "[]")
	}
	return ""
}

// written are the types that are written as JSON, with the command that writes them.
var written = []struct{ title, folder, name, by string }{
	{"nightdrill.summary/1", "internal/core/measure", "Summary", "nightdrill run DRILL --json FILE, runs show --json"},
	{"nightdrill.comparison/1, one of its comparisons", "internal/core/measure", "Comparison",
		"nightdrill compare --json"},
	{"nightdrill.forecast/1", "internal/core/forecast", "Forecast", "nightdrill forecast --json"},
	{"nightdrill.trend/1", "internal/core/trend", "Trends", "nightdrill runs trend --json"},
	{"nightdrill.failures/1, one of its failures", "internal/core/record", "Failure",
		"nightdrill runs show --failed --json"},
	{"runs list, one of the runs", "internal/store", "Info", "nightdrill runs list --json"},
}

// source are the types of the program, by folder and name.
type source map[string]*ast.TypeSpec

func formatsPage() (string, error) {
	types := source{}
	err := filepath.WalkDir("internal", func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		files, err := filepath.Glob(filepath.Join(path, "*.go"))
		if err != nil {
			return err
		}
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
			if err != nil {
				return err
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if t, ok := n.(*ast.TypeSpec); ok {
					types[filepath.ToSlash(path)+"."+t.Name.Name] = t
				}
				return true
			})
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString("# Formats\n\nWhat is written as JSON, member by member, from the types of the program. Members " +
		"ending in " +
		"`_ms` are\nmilliseconds; `null` stands for what was not measured, or has too few samples. A format keeps " +
		"its " +
		"number as long\nas members are only added. " + made)
	parts := &parts{types: types}
	for _, w := range written {
		if types[w.folder+"."+w.name] == nil {
			return "", fmt.Errorf("no type %s in %s", w.name, w.folder)
		}
		fmt.Fprintf(&b, "## %s\n\n`%s`\n\n| member | value | |\n| --- | --- | --- |\n", w.title, w.by)
		parts.members(&b, w.folder, w.name)
		b.WriteString("\n")
	}
	for i := 0; i < len(parts.used); i++ { // more come up meanwhile
		u := parts.used[i]
		fmt.Fprintf(&b, "## %s\n\n| member | value | |\n| --- | --- | --- |\n",
			filepath.Base(u.folder)+"."+u.name)
		parts.members(&b, u.folder, u.name)
		b.WriteString("\n")
	}
	return strings.TrimRight(b.String(), "\n") + "\n", nil
}

// parts are the types that members of others have: each is described once.
type parts struct {
	types source
	used  []struct{ folder, name string }
}

// members writes a row for each member of a type.
func (p *parts) members(b *strings.Builder, folder, name string) {
	of, ok := p.types[folder+"."+name].Type.(*ast.StructType)
	if !ok {
		return
	}
	for _, f := range of.Fields.List {
		tag := ""
		if f.Tag != nil {
			text, _ := strconv.Unquote(f.Tag.Value) // of a source that compiles
			tag = reflect.StructTag(text).Get("json")
		}
		member, _, _ := strings.Cut(tag, ",")
		if member == "-" || member == "" && len(f.Names) > 0 && !f.Names[0].IsExported() {
			continue
		}
		value, in, named := p.types.describe(folder, f.Type)
		if len(f.Names) == 0 && member == "" { // embedded: its members are this one's
			if named != "" {
				p.members(b, in, named)
			}
			continue
		}
		if member == "" {
			member = f.Names[0].Name
		}
		if named != "" {
			value = strings.Replace(value, "an object", "["+named+"](#"+
				strings.ToLower(filepath.Base(in)+named)+")", 1)
			if u := (struct{ folder, name string }{in, named}); !slices.Contains(p.used, u) {
				p.used = append(p.used, u)
			}
		}
		comment := strings.TrimSpace(f.Comment.Text())
		if comment == "" {
			comment = strings.TrimSpace(f.Doc.Text())
		}
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", member, value, cell(comment))
	}
}

var plainTypes = map[string]string{"string": "text", "bool": "`true` or `false`", "float64": "a number",
	"any": "any value"}

var whole = regexp.MustCompile(`^u?int\d*$`)

// describe returns what a member is in words, and the type of the program that it has, if any.
func (s source) describe(folder string, t ast.Expr) (value, in, named string) {
	switch t := t.(type) {
	case *ast.StarExpr:
		value, in, named = s.describe(folder, t.X)
		return value + " or null", in, named
	case *ast.ArrayType:
		value, in, named = s.describe(folder, t.Elt)
		return "a list of " + value, in, named
	case *ast.MapType:
		value, in, named = s.describe(folder, t.Value)
		return "names, each with " + value, in, named
	case *ast.Ident:
		return s.ofType(folder, t.Name)
	case *ast.SelectorExpr:
		pkg := fmt.Sprint(t.X)
		if pkg == "time" {
			return map[string]string{"Time": "a time (RFC 3339)", "Duration": "nanoseconds"}[t.Sel.Name], "", ""
		}
		for key := range s {
			if strings.HasSuffix(key, "/"+pkg+"."+t.Sel.Name) {
				return s.ofType(strings.TrimSuffix(key, "."+t.Sel.Name), t.Sel.Name)
			}
		}
	}
	return "a value", "", ""
}

func (s source) ofType(folder, name string) (value, in, named string) {
	if v := plainTypes[name]; v != "" {
		return v, "", ""
	}
	if whole.MatchString(name) || name == "byte" {
		return "a whole number", "", ""
	}
	spec := s[folder+"."+name]
	if spec == nil {
		return "a value", "", ""
	}
	switch t := spec.Type.(type) {
	case *ast.StructType:
		return "an object", folder, name
	case *ast.Ident:
		return s.ofType(folder, t.Name)
	default:
		return s.describe(folder, t)
	}
}
