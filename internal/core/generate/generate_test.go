package generate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/rng"
)

// taken are schemas that something fits; together they use every keyword of the
// standard's validation and applicators.
var taken = map[string]string{
	"anything":           `{}`,
	"true":               `true`,
	"null":               `{"type":"null"}`,
	"boolean":            `{"type":"boolean"}`,
	"types":              `{"type":["integer","string","null"]}`,
	"const":              `{"const":{"a":[1,null,"x"]}}`,
	"enum":               `{"enum":["red",1,null,{"x":true}]}`,
	"enum and type":      `{"enum":["red",1,2.5],"type":"integer"}`,
	"integer":            `{"type":"integer","minimum":-3,"maximum":3}`,
	"one integer":        `{"type":"integer","exclusiveMinimum":4,"exclusiveMaximum":6}`,
	"multiple":           `{"type":"number","multipleOf":0.01,"minimum":0.1,"maximum":0.3}`,
	"multiples":          `{"type":"integer","allOf":[{"multipleOf":4},{"multipleOf":6}],"minimum":1,"maximum":40}`,
	"narrow":             `{"type":"number","exclusiveMinimum":0.1,"exclusiveMaximum":0.1000001}`,
	"huge":               `{"type":"integer","minimum":1e30,"maximum":1e31}`,
	"tiny":               `{"type":"number","minimum":1e-12,"maximum":2e-12}`,
	"length":             `{"type":"string","minLength":3,"maxLength":5}`,
	"exact length":       `{"type":"string","minLength":300,"maxLength":300}`,
	"empty text":         `{"type":"string","maxLength":0}`,
	"pattern":            `{"type":"string","pattern":"^BF-[0-9]{4}-[A-Z]{2,3}$"}`,
	"loose pattern":      `{"type":"string","pattern":"b+c","minLength":8,"maxLength":9}`,
	"pattern and length": `{"type":"string","pattern":"^(ab|cde)*$","minLength":11,"maxLength":11}`,
	"two patterns":       `{"type":"string","allOf":[{"pattern":"^[a-f0-9]+$"},{"pattern":"^.{8}$"}]}`,
	"classes":            `{"type":"string","pattern":"^\\d{2}\\s\\w+[^a-z]\\.$"}`,
	"unicode pattern":    `{"type":"string","pattern":"^[\\u00e0-\\u00ff]{3}$"}`,
	"look ahead":         `{"type":"string","pattern":"^(?=.*[0-9])[a-z0-9]{6}$"}`,
	"word boundary":      `{"type":"string","pattern":"\\bquay\\b"}`,
	"exploding":          `{"type":"string","pattern":"^(a+)+$","minLength":5,"maxLength":40}`,
	"format date-time":   `{"type":"string","format":"date-time"}`,
	"formats": `{"type":"array","prefixItems":[{"format":"email"},{"format":"uuid"},` +
		`{"format":"ipv4"},{"format":"ipv6"},{"format":"uri"},{"format":"date"},{"format":"time"},` +
		`{"format":"duration"},{"format":"hostname"},{"format":"json-pointer"},{"format":"uri-reference"},` +
		`{"format":"regex"},{"format":"relative-json-pointer"},{"format":"uri-template"}],"minItems":14,"items":false}`,
	"format and length": `{"type":"string","format":"email","maxLength":30}`,
	"items":             `{"type":"array","items":{"type":"integer"},"minItems":2,"maxItems":4}`,
	"tuple": `{"type":"array","prefixItems":[{"type":"string"},{"type":"integer"}],"items":false,` +
		`"minItems":1}`,
	"unique": `{"type":"array","items":{"enum":[1,2,3,4]},"uniqueItems":true,"minItems":4}`,
	"unique booleans": `{"type":"array","items":{"type":"boolean"},"uniqueItems":true,"minItems":2,` +
		`"maxItems":2}`,
	"contains": `{"type":"array","items":{"type":"integer","minimum":0,"maximum":9},` +
		`"contains":{"const":7},"minContains":2,"maxContains":3,"maxItems":8}`,
	"contains none": `{"type":"array","items":{"enum":[1,2]},"contains":{"const":1},"minContains":0,` +
		`"maxContains":1,"minItems":3}`,
	"unevaluated items": `{"type":"array","allOf":[{"prefixItems":[{"type":"string"}]}],` +
		`"unevaluatedItems":{"type":"boolean"},"minItems":3}`,
	"object": `{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"integer"}},` +
		`"required":["a"],"additionalProperties":false}`,
	"additional": `{"type":"object","additionalProperties":{"type":"integer"},"minProperties":3,` +
		`"maxProperties":5}`,
	"pattern properties": `{"type":"object","patternProperties":{"^x-":{"type":"integer"}},` +
		`"additionalProperties":false,"minProperties":2}`,
	"overlapping": `{"type":"object","properties":{"x-a":{"minimum":5}},` +
		`"patternProperties":{"^x-":{"type":"integer","maximum":9}},"required":["x-a"]}`,
	"names": `{"type":"object","propertyNames":{"pattern":"^[a-z]{3}$"},"minProperties":2}`,
	"dependent required": `{"type":"object","properties":{"card":{"type":"string"},"address":{"type":"string"},` +
		`"zip":{"type":"integer"}},"dependentRequired":{"card":["address"],"address":["zip"]},` +
		`"additionalProperties":false}`,
	"dependent schemas": `{"type":"object","properties":{"van":{"type":"boolean"},"length":{"type":"number"}},` +
		`"dependentSchemas":{"van":{"required":["length"],"properties":{"length":{"minimum":4}}}},` +
		`"additionalProperties":false}`,
	"forbidden member": `{"properties":{"bar":false}}`,
	"forbidden beside": `{"type":"object","properties":{"a":{"type":"integer"},"b":false},"required":["a"],` +
		`"additionalProperties":false}`,
	"forbidden pattern":  `{"type":"object","patternProperties":{"^x-":false}}`,
	"forbidden item":     `{"type":"array","prefixItems":[{"type":"integer"},{"type":"string"},false]}`,
	"forbidden items":    `{"prefixItems":[{"type":"integer"},false]}`,
	"contains nothing":   `{"contains":false}`,
	"requires if there":  `{"dependentRequired":{"bar":["foo"]}}`,
	"others are numbers": `{"additionalProperties":{"type":"integer"}}`,
	"unevaluated": `{"type":"object","allOf":[{"properties":{"a":{"type":"integer"}},"required":["a"]}],` +
		`"properties":{"b":{"type":"string"}},"unevaluatedProperties":false}`,
	"unevaluated choice": `{"type":"object","oneOf":[{"properties":{"kind":{"const":"car"},` +
		`"length":{"type":"number"}},"required":["kind"]},{"properties":{"kind":{"const":"foot"}},` +
		`"required":["kind"]}],"unevaluatedProperties":false}`,
	"required alone": `{"type":"object","required":["one","two"]}`,
	"all of": `{"allOf":[{"type":"object","required":["a"]},` +
		`{"properties":{"a":{"type":"integer"}}},{"properties":{"a":{"minimum":10,"maximum":12}}}]}`,
	"any of": `{"anyOf":[{"type":"integer","minimum":5},{"type":"string","maxLength":3},` +
		`{"const":null}]}`,
	"one of": `{"oneOf":[{"type":"integer","multipleOf":3},{"type":"integer","multipleOf":5}],` +
		`"minimum":1,"maximum":60}`,
	"one of overlapping": `{"oneOf":[{"type":"number"},{"type":"integer"}]}`,
	"not":                `{"type":"integer","minimum":0,"maximum":5,"not":{"enum":[0,1,2]}}`,
	"not object": `{"type":"object","properties":{"a":{"type":"integer"}},"required":["a"],` +
		`"not":{"properties":{"a":{"minimum":0}}}}`,
	"if then else": `{"type":"object","properties":{"kind":{"enum":["car","foot"]},` +
		`"length":{"type":"number","minimum":2,"maximum":9}},"required":["kind"],` +
		`"if":{"properties":{"kind":{"const":"car"}}},"then":{"required":["length"]},` +
		`"else":{"not":{"required":["length"]}},"additionalProperties":false}`,
	"ref": `{"$defs":{"port":{"enum":["holm","skerry"]}},"type":"object",` +
		`"properties":{"from":{"$ref":"#/$defs/port"},"to":{"$ref":"#/$defs/port"}},"required":["from","to"]}`,
	"ref beside": `{"$defs":{"n":{"type":"integer"}},"$ref":"#/$defs/n","minimum":3,"maximum":4}`,
	"anchor":     `{"$defs":{"x":{"$anchor":"port","type":"string","pattern":"^p"}},"$ref":"#port"}`,
	"id": `{"$id":"https://ferries.example/fare.json","$defs":{"m":{"$id":"money.json",` +
		`"type":"object","required":["cents"],"properties":{"cents":{"type":"integer"}}}},"type":"object",` +
		`"properties":{"price":{"$ref":"money.json"}},"required":["price"]}`,
	"escaped pointer": `{"$defs":{"a/b~c %":{"type":"boolean"}},"$ref":"#/$defs/a~1b~0c%20%25"}`,
	"tree": `{"$defs":{"node":{"type":"object","required":["value"],` +
		`"properties":{"value":{"type":"integer"},"children":{"type":"array","items":{"$ref":"#/$defs/node"}}},` +
		`"additionalProperties":false}},"$ref":"#/$defs/node"}`,
	"list by next": `{"type":"object","required":["next"],"properties":{"next":{"anyOf":[{"type":"null"},` +
		`{"$ref":"#"}]}},"additionalProperties":false}`,
	"expression": `{"$defs":{"e":{"oneOf":[{"type":"number"},{"type":"object","required":["op","l",` +
		`"r"],"properties":{"op":{"enum":["+","*"]},"l":{"$ref":"#/$defs/e"},"r":{"$ref":"#/$defs/e"}},` +
		`"additionalProperties":false}]}},"$ref":"#/$defs/e"}`,
	"dynamic": `{"$id":"https://ferries.example/strict-tree","$dynamicAnchor":"node","$ref":"tree",` +
		`"unevaluatedProperties":false,"$defs":{"tree":{"$id":"tree","$dynamicAnchor":"node","type":"object",` +
		`"properties":{"data":true,"children":{"type":"array","items":{"$dynamicRef":"#node"}}}}}}`,
	"deep types": `{"type":"object","properties":{"a":{"type":"object",` +
		`"properties":{"b":{"type":"array","items":{"type":"object","properties":{"c":{"type":"string",` +
		`"format":"uuid"}},"required":["c"]},"minItems":1}},"required":["b"]}},"required":["a"]}`,
	"no type": `{"minimum":5,"maxLength":2,"required":["x"]}`,
	"annotated": `{"title":"t","description":"d","default":3,"examples":[1],"deprecated":true,` +
		`"readOnly":true,"$comment":"c","x-own":1,"type":"integer"}`,
	"content": `{"type":"string","contentEncoding":"base64","contentMediaType":"application/json"}`,
	"draft 7": `{"$schema":"http://json-schema.org/draft-07/schema#",` +
		`"definitions":{"n":{"type":"integer"}},"type":"object","properties":{"a":{"$ref":"#/definitions/n",` +
		`"type":"string"},"t":{"type":"array","items":[{"type":"string"},{"type":"null"}],"additionalItems":false,` +
		`"minItems":2}},"required":["a","t"],"dependencies":{"b":["c"],"d":{"required":["e"]}}}`,
	"draft 4": `{"$schema":"http://json-schema.org/draft-04/schema#",` +
		`"id":"http://ferries.example/x","type":"object","properties":{"n":{"type":"integer","minimum":1,` +
		`"exclusiveMinimum":true,"maximum":3,"exclusiveMaximum":true}},"required":["n"]}`,
	"draft 2019": `{"$schema":"https://json-schema.org/draft/2019-09/schema","$recursiveAnchor":true,` +
		`"type":"object","properties":{"value":{"type":"integer"},"next":{"$recursiveRef":"#"}},` +
		`"unevaluatedProperties":false}`,
	"empty choice list": `{"type":"object","properties":{"n":false},"maxProperties":0}`,
	"patterns and not": `{"type":"string","allOf":[{"pattern":"^[a-z]+[0-9]+$"},{"pattern":"ab.*7$"},` +
		`{"not":{"pattern":"z"}}],"minLength":10,"maxLength":12}`,
	"password": `{"type":"string",` +
		`"pattern":"^(?=.*[A-Z])(?=.*[a-z])(?=.*[0-9])(?=.*[^A-Za-z0-9])(?!.*\\s).{12,16}$"}`,
	"format and pattern":  `{"type":"string","format":"date","pattern":"^2024-02-"}`,
	"mail of a house":     `{"type":"string","format":"email","pattern":"@ferries\\.example$","maxLength":24}`,
	"address that begins": `{"type":"string","format":"ipv4","pattern":"^10\\."}`,
	"uuid that begins":    `{"type":"string","format":"uuid","pattern":"^0000"}`,
	"short uri":           `{"type":"string","format":"uri","pattern":"^https://","maxLength":20}`,
	"long uri":            `{"type":"string","format":"uri","minLength":200}`,
	"long host":           `{"type":"string","format":"hostname","minLength":60,"maxLength":63}`,
	"long mail":           `{"type":"string","format":"email","minLength":60}`,
	"time of a length":    `{"type":"string","format":"date-time","pattern":"Z$","minLength":27,"maxLength":27}`,
	"permutation": `{"type":"array","uniqueItems":true,"minItems":40,"items":{"type":"integer",` +
		`"minimum":1,"maximum":40}}`,
	"alphabet": `{"type":"array","uniqueItems":true,"minItems":26,"items":{"type":"string",` +
		`"pattern":"^[a-z]$"}}`,
	"many items": `{"type":"array","minItems":600,"items":{"type":"object",` +
		`"properties":{"a":{"type":"integer"}},"required":["a"]}}`,
	"long text": `{"type":"string","minLength":100000}`,
	"all names": `{"type":"object","minProperties":5,"propertyNames":{"enum":["a","b","c","d","e"]},` +
		`"additionalProperties":{"type":"integer"}}`,
	"all letters": `{"type":"object","minProperties":26,"propertyNames":{"pattern":"^[a-z]$"}}`,
	"names of two kinds": `{"type":"object","minProperties":3,"patternProperties":{"^a":{"type":"integer"},` +
		`"b$":{"multipleOf":7}},"additionalProperties":false}`,
	"required by pattern": `{"type":"object","required":["ab"],"patternProperties":{"^a":{"type":"integer"},` +
		`"b$":{"multipleOf":7}},"additionalProperties":false}`,
	"odd multiple":  `{"type":"integer","multipleOf":0.0003,"minimum":1,"maximum":10}`,
	"fine multiple": `{"type":"number","multipleOf":1e-8,"minimum":0,"maximum":1}`,
	"not whole":     `{"type":"number","not":{"type":"integer"},"minimum":1,"maximum":2}`,
	"not any of": `{"not":{"anyOf":[{"type":"string"},{"type":"number"},{"type":"array"},` +
		`{"type":"object"},{"type":"null"}]}}`,
	"not required": `{"type":"object","not":{"required":["a"]},"properties":{"a":{},"b":{}}, ` +
		`"minProperties":1}`,
	"none required": `{"type":"object","not":{"anyOf":[{"required":["a"]},{"required":["b"]}]},` +
		`"properties":{"a":{},"b":{},"c":{"type":"integer"}}, "required":["c"]}`,
	"rarely not": `{"type":"object","properties":{"a":{"type":"integer","minimum":0,"maximum":1000000},` +
		`"b":{"type":"string"}},"required":["a","b"],"not":{"properties":{"a":{"maximum":999990}}}}`,
	"one required": `{"oneOf":[{"required":["a"]},{"required":["b"]},{"required":["c"]}],"type":"object",` +
		`"properties":{"a":{"type":"integer"},"b":{"type":"integer"},"c":{"type":"integer"}}}`,
	"tagged": `{"type":"object","oneOf":[{"properties":{"t":{"const":"a"},"v":{"type":"integer"}},` +
		`"required":["t","v"]},{"properties":{"t":{"const":"b"},"v":{"type":"string","minLength":40}},` +
		`"required":["t","v"]}],"unevaluatedProperties":false}`,
	"contains some of many": `{"type":"array","contains":{"type":"integer","minimum":100},"minContains":3,` +
		`"maxContains":4,"items":{"type":"integer","minimum":0,"maximum":200},"minItems":9,"uniqueItems":true}`,
	"contained is evaluated": `{"type":"array","prefixItems":[{"type":"string"}],"contains":{"type":"integer"},` +
		`"unevaluatedItems":false,"minItems":4}`,
	"contains four": `{"allOf":[{"contains":{"const":"a"}},{"contains":{"const":"b"}},` +
		`{"contains":{"type":"integer","multipleOf":2}},{"contains":{"type":"integer","multipleOf":3}}],` +
		`"type":"array","maxItems":4}`,
	"contains at once": `{"allOf":[{"contains":{"type":"integer","multipleOf":2}},` +
		`{"contains":{"type":"integer","multipleOf":3}}],"type":"array","maxItems":1}`,
	"nested ranges": `{"type":"array","items":{"oneOf":[{"type":"integer"},{"type":"integer","minimum":5},` +
		`{"type":"integer","minimum":50}]},"minItems":4}`,
	"false branches": `{"anyOf":[false,{"allOf":[{"anyOf":[false,{"const":3}]},{"type":"integer"}]}]}`,
	"chained conditions": `{"if":{"properties":{"a":{"const":1}},"required":["a"]},"then":{"required":["b"]},` +
		`"else":{"if":{"properties":{"a":{"const":2}},"required":["a"]},"then":{"required":["c"]},` +
		`"else":{"required":["d"]}},"type":"object","properties":{"a":{"enum":[1,2,3]},"b":{},"c":{},"d":{}},` +
		`"additionalProperties":false,"maxProperties":2}`,
	"chained dependents": `{"type":"object","dependentSchemas":{"a":{"required":["b"]},"b":{"required":["c"]},` +
		`"c":{"properties":{"d":{"const":4}},"required":["d"]}},"required":["a"]}`,
	"needs itself": `{"type":"object","required":["a"],"properties":{"a":{"$ref":"#/$defs/x"}},` +
		`"$defs":{"x":{"type":"object","properties":{"y":{"$ref":"#/$defs/x"}},"minProperties":0}}}`,
	"mutual recursion": `{"$ref":"#/$defs/a","$defs":{"a":{"anyOf":[{"type":"array",` +
		`"items":{"$ref":"#/$defs/b"},"minItems":2},{"type":"integer"}]},"b":{"anyOf":[{"type":"array",` +
		`"items":{"$ref":"#/$defs/a"},"minItems":2},{"type":"string"}]}}}`,
	"enum of objects":      `{"enum":[{"a":1},{"a":2},{"a":3}],"properties":{"a":{"minimum":3}}}`,
	"const is whole":       `{"const":1.0,"type":"integer"}`,
	"beyond a double":      `{"type":"integer","minimum":9007199254740993,"maximum":9007199254740993}`,
	"smallest":             `{"type":"number","exclusiveMinimum":0,"exclusiveMaximum":1e-300}`,
	"largest":              `{"type":"number","minimum":1e308}`,
	"letters of unicode":   `{"type":"string","pattern":"^\\p{Lu}\\p{L}+$"}`,
	"script":               `{"type":"string","pattern":"^\\p{Script=Greek}+$"}`,
	"named back reference": `{"type":"string","pattern":"^(?<year>\\d{4})-\\k<year>$"}`,
	"back references":      `{"type":"string","pattern":"^(a)(b)\\2\\1$"}`,
	"mail pattern":         `{"type":"string","pattern":"^[\\w.%+-]+@[\\w-]+\\.[a-z]{2,}$","maxLength":12}`,
	"no spaces":            `{"type":"string","pattern":"^\\S+$","minLength":3}`,
	"escaped hyphen":       `{"type":"string","pattern":"^[\\d\\-]{5}$"}`,
	"code point":           `{"type":"string","pattern":"\\u{1F600}"}`,
	"surrogates":           `{"type":"string","pattern":"^\\ud83d\\ude00$"}`,
	"outside of ascii":     `{"type":"string","pattern":"^[^\\x00-\\x7F]+$"}`,
	"long repeat":          `{"type":"string","pattern":"^.{1200,1300}$"}`,
	"ip pattern":           `{"type":"string","pattern":"^(?:(?:25[0-5]|2[0-4]\\d|1?\\d?\\d)(?:\\.(?!$)|$)){4}$"}`,
	"look behind":          `{"type":"string","pattern":"(?<=foo)bar$"}`,
	"not before":           `{"type":"string","pattern":"^(?!(?:draft|test)-)[a-z]+-[a-z]+$"}`,
	"not pattern":          `{"type":"string","not":{"pattern":"^[a-z ]*$"}}`,
	"not one letter":       `{"type":"string","not":{"enum":["a"]},"maxLength":1,"pattern":"^[ab]$"}`,
	"enum and all":         `{"type":["string","integer"],"minimum":5,"minLength":2,"enum":["a","abc",3,7]}`,
	"short names": `{"type":"object","properties":{"a":{"type":"string"}},` +
		`"additionalProperties":{"type":"integer"},"propertyNames":{"maxLength":3},"minProperties":6}`,
	"unevaluated members": `{"type":"object","unevaluatedProperties":{"type":"integer"},` +
		`"anyOf":[{"properties":{"a":{"const":"x"}},"required":["a"]},{"properties":{"b":{"const":"y"}},` +
		`"required":["b"]}],"minProperties":4}`,
	"order": `{"$defs":{"p":{"type":"integer","exclusiveMinimum":0}},"type":"object",` +
		`"properties":{"items":{"type":"array","items":{"type":"object","properties":{"qty":{"$ref":"#/$defs/p"},` +
		`"price":{"type":"number","minimum":0,"multipleOf":0.01}},"required":["qty","price"],` +
		`"additionalProperties":false},"minItems":1,"maxItems":5}},"required":["items"]}`,
	"ends in a text": `{"anyOf":[{"type":"object","required":["x"],"properties":{"x":{"$ref":"#"}}},` +
		`{"type":"string","minLength":3}]}`,
	"conditions exclude": `{"type":"object","allOf":[{"if":{"required":["a"]},"then":{"required":["b"]}},` +
		`{"if":{"required":["b"]},"then":{"not":{"required":["a"]}}}],"properties":{"a":{},"b":{}}}`,
	"not whole number": `{"allOf":[{"not":{"type":"null"}},{"not":{"type":"object"}},` +
		`{"not":{"type":"array"}},{"not":{"type":"string"}},{"not":{"type":"boolean"}}],"not":{"multipleOf":1}}`,
	"places elsewhere": `{"type":"object","required":["a","b"],` +
		`"properties":{"a":{"$ref":"#/own/texts/short"},"b":{"$ref":"#/properties/a"}},` +
		`"own":{"texts":{"short":{"type":"string","maxLength":4}}}}`,
	"the standard": `{"$ref":"https://json-schema.org/draft/2020-12/schema"}`,
	"draft 7 itself": `{"$schema":"http://json-schema.org/draft-07/schema#",` +
		`"$ref":"http://json-schema.org/draft-07/schema#"}`,
	"https dialect": `{"$schema":"https://json-schema.org/draft-07/schema","type":"object",` +
		`"properties":{"a":{"$id":"#here","type":"null"},"b":{"$ref":"#here"}},"required":["a","b"]}`,
}

// refused are schemas that cannot be honoured, with what is said of them.
var refused = map[string]string{
	`{"type":"number","minimum":1E1000000000}`: "/minimum: 1E1000000000 is too large: exponents are up to 400",
	`{`:                                 "not valid JSON",
	`7`:                                 "",
	`false`:                             "nothing is allowed",
	`{"type":"strnig"}`:                 "type",
	`{"$ref":"#/$defs/none"}`:           "none",
	`{"$ref":"https://else.example/x"}`: "nothing is fetched",
	`{"$schema":"https://else.example/own","type":"string"}`:                   "",
	`{"type":"string","pattern":"(["}`:                                         "pattern",
	`{"type":"integer","minimum":4,"maximum":3}`:                               "4, is above the maximum, 3",
	`{"type":"string","not":{"type":"string"}}`:                                "satisfies not",
	`{"type":"object","required":["next"],"properties":{"next":{"$ref":"#"}}}`: "endlessly",
	`{"allOf":[{"const":1},{"const":2}]}`:                                      "no value in common",
	`{"type":"object","required":["x"],"properties":{"x":{"type":"array","minItems":1,"items":{"type":"string",` +
		`"minLength":3,"maxLength":2}}}}`: "/properties/x/items: no valid value was found: minLength 3",
	`{"type":"array","uniqueItems":true,"items":{"type":"boolean"},` +
		`"minItems":3}`: "no 3 distinct items",
	`{"type":"string","allOf":[{"pattern":"^a+$"},` +
		`{"pattern":"^b+$"}]}`: "the pattern ^a+$, the pattern ^b+$ at once",
	`{"type":"object","required":["a"],"properties":{"a":false}}`:         "/properties/a: nothing is allowed",
	`{"type":"object","required":["a"],"propertyNames":{"pattern":"^b"}}`: "does not accept that name",
	`{"type":"number","multipleOf":5,"minimum":1,` +
		`"maximum":4}`: "no multiple of 5",
	`{"oneOf":[{"type":"integer"},{"type":"integer"}]}`: "exactly one branch",
	`{"type":"array","contains":{"const":1},"items":{"const":2},` +
		`"minItems":1}`: "both items and contains",
	`{"type":"integer","x-made":{"normal":{"mean":1}}}`: "/x-made: normal: deviation is missing",
	`{"enum":[1,2],"x-made":{"weights":[1]}}`:           "the enum beside them has 2",
}

// Every schema gives payloads for every seed, each of which the validator takes,
// the same ones each time.
func TestMade(t *testing.T) {
	seeds := uint64(80)
	if testing.Short() {
		seeds = 20
	}
	for name, text := range taken {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g, err := New([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			c := jsonschema.NewCompiler()
			c.AssertFormat()
			c.UseRegexpEngine(engine)
			doc, _ := jsonschema.UnmarshalJSON(strings.NewReader(text))
			if err := c.AddResource("test.json", doc); err != nil {
				t.Fatal(err)
			}
			independent, err := c.Compile("test.json")
			if err != nil {
				t.Fatal(err)
			}
			for seed := range seeds {
				made, err := g.Make(seed, seed%7)
				if err != nil {
					t.Fatalf("seed %d: %v", seed, err)
				}
				v, err := jsonschema.UnmarshalJSON(bytes.NewReader(made))
				if err != nil {
					t.Fatalf("seed %d: %s is not JSON: %v", seed, made, err)
				}
				if err := independent.Validate(v); err != nil {
					t.Fatalf("seed %d: %s: %v", seed, made, err)
				}
				if edge, err := g.Edge(seed, seed%7); err != nil {
					t.Fatalf("seed %d: at the edges: %v", seed, err)
				} else if v, err := jsonschema.UnmarshalJSON(bytes.NewReader(edge)); err != nil ||
					independent.Validate(v) != nil {
					t.Fatalf("seed %d: at the edges: %s: %v", seed, edge, independent.Validate(v))
				}
				if again, _ := g.Make(seed, seed%7); !bytes.Equal(made, again) {
					t.Fatalf("seed %d gives %s, and then %s", seed, made, again)
				}
			}
		})
	}
}

func TestRefused(t *testing.T) {
	for text, want := range refused {
		g, err := New([]byte(text))
		if err == nil {
			_, err = g.Make(1, 1)
		}
		var r *Refused
		if !errors.As(err, &r) || !strings.Contains(r.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// spreading are schemas all of whose parts can occur.
var spreading = []string{"any of", "if then else", "integer", "length", "items", "types", "tree", "expression",
	"unevaluated choice", "tuple", "multiple", "contains", "additional", "ref", "deep types", "tagged", "order",
	"chained conditions", "one required", "draft 4"}

// It is not enough that what is made is valid: every branch of a choice, every
// optional member there and not there, and both ends of every bound occur.
func TestEverythingOccurs(t *testing.T) {
	texts := []string{`{"type":"object","required":["name","code"],"properties":{"name":{"type":"string",` +
		`"minLength":2,"maxLength":60},"code":{"type":"string","pattern":"^[A-Z]+$","minLength":2,"maxLength":7},` +
		`"note":{"type":["string","null"],"maxLength":200},
		"when":{"type":"string","format":"date-time"},"price":{"type":"number","minimum":0,"exclusiveMaximum":5000,
		  "multipleOf":0.05},"seats":{"type":"array","minItems":1,"maxItems":30,
		    "items":{"anyOf":[{"type":"integer","minimum":1,"maximum":400},{"const":"deck"},{"enum":["bow","stern"]}]}},
		"extra":{"type":"object","minProperties":1,"maxProperties":6,"additionalProperties":{"type":"boolean"}}}}`}
	for _, name := range spreading {
		texts = append(texts, taken[name])
	}
	for _, text := range texts {
		g, err := New([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		seen := occurrences{g, map[string]bool{}}
		for n := range uint64(1000) {
			v, err := g.draft(3, n, 0, false)
			if err != nil {
				continue
			}
			seen.visit(g.root, v)
		}
		for _, s := range g.all {
			for _, want := range seen.wanted(s) {
				if !seen.of[want] {
					t.Errorf("%.60s: in a thousand there is no %s", text, want)
				}
			}
		}
	}
}

// occurrences is what has been seen of a schema's parts.
type occurrences struct {
	g  *Generator
	of map[string]bool
}

// wanted returns what should occur of a schema that is reached at all.
func (o occurrences) wanted(s *schema) (out []string) {
	add := func(is bool, what string) {
		if is && o.of[s.at] {
			out = append(out, s.at+" "+what)
		}
	}
	add(s.minimum != nil && s.multipleOf == nil, "minimum")
	add(s.maximum != nil && s.multipleOf == nil, "maximum")
	add(s.minLength > 0, "minLength")
	add(s.maxLength != none, "maxLength")
	add(s.minItems > 0, "minItems")
	add(s.maxItems != none, "maxItems")
	add(s.minProps > 0, "minProperties")
	add(s.maxProps != none, "maxProperties")
	for i := range s.anyOf {
		add(true, fmt.Sprint("anyOf ", i))
	}
	for i := range s.oneOf {
		add(true, fmt.Sprint("oneOf ", i))
	}
	for _, v := range s.enum {
		add(true, "enum "+identity(v))
	}
	add(s.then != nil, "then")
	add(s.otherwise != nil, "else")
	for _, name := range s.propNames {
		if !slices.Contains(s.required, name) && len(s.oneOf) == 0 {
			add(true, "with "+name)
			add(true, "without "+name)
		}
	}
	return out
}

func (o occurrences) visit(s *schema, v any) {
	if s == nil || s.always != nil {
		return
	}
	o.of[s.at] = true
	saw := func(is bool, what string) {
		if is {
			o.of[s.at+" "+what] = true
		}
	}
	plain := simple(v)
	choose := func(name string, of []*schema) {
		for i, x := range of {
			if o.g.fits(x, plain) {
				saw(true, fmt.Sprint(name, " ", i))
				o.visit(x, v)
			}
		}
	}
	choose("anyOf", s.anyOf)
	choose("oneOf", s.oneOf)
	saw(s.enum != nil, "enum "+identity(v))
	for _, x := range append(s.refs(), s.allOf...) {
		o.visit(x, v)
	}
	if s.when != nil && o.g.fits(s.when, plain) {
		saw(true, "then")
		o.visit(s.then, v)
	} else if s.when != nil {
		saw(true, "else")
		o.visit(s.otherwise, v)
	}
	switch v := v.(type) {
	case json.Number:
		saw(s.minimum != nil && rat(v).Cmp(s.minimum) == 0, "minimum")
		saw(s.maximum != nil && rat(v).Cmp(s.maximum) == 0, "maximum")
	case string:
		saw(utf8.RuneCountInString(v) == s.minLength, "minLength")
		saw(utf8.RuneCountInString(v) == s.maxLength, "maxLength")
	case []any:
		saw(len(v) == s.minItems, "minItems")
		saw(len(v) == s.maxItems, "maxItems")
		for i, x := range v {
			if i < len(s.prefixItems) {
				o.visit(s.prefixItems[i], x)
			} else {
				o.visit(s.items, x)
			}
		}
	case *object:
		saw(len(v.names) == s.minProps, "minProperties")
		saw(len(v.names) == s.maxProps, "maxProperties")
		for _, name := range s.propNames {
			i := slices.Index(v.names, name)
			saw(i >= 0, "with "+name)
			saw(i < 0, "without "+name)
			if i >= 0 {
				o.visit(s.properties[name], v.values[i])
			}
		}
	}
}

// Distributions are those that the schema requests, equal keys come again, and
// what is to be unique is.
func TestSpread(t *testing.T) {
	g, err := New([]byte(
		`{"type":"object","required":["n","l","z","kind","id","seq","who","copy","vessel","maybe"],` +
			`"additionalProperties":false,"properties":{
		"n":{"type":"integer","minimum":0,"maximum":100,"x-made":{"normal":{"mean":50,"deviation":10}}},
		"l":{"type":"number","x-made":{"lognormal":{"median":40,"spread":2}}},
		"z":{"type":"integer","minimum":1,"x-made":{"zipf":{"of":50}}},
		"kind":{"enum":["car","foot","van"],"x-made":{"weights":[70,20,10]}},
		"id":{"type":"integer","minimum":1,"maximum":5000,"x-made":{"unique":true}},
		"seq":{"type":"string","pattern":"^BF-","x-made":{"sequence":{"from":7,"text":"BF-%06d"}}},
		"who":{"type":"string","format":"email","x-made":{"shared":"mail"}},"copy":{"type":"string",
		  "x-made":{"shared":"mail"}},
		"vessel":{"type":"string","pattern":"^[A-Z]{3}-[0-9]{3}$","x-made":{"pool":{"size":5}}},
		"maybe":{"type":["string","null"],"x-made":{"nulls":0.25}},"opt":{"type":"integer",
		  "x-made":{"present":0.1}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	const of = 4000
	count := map[string]int{}
	ids, vessels := map[int]bool{}, map[string]bool{}
	for n := range uint64(of) {
		made, err := g.Make(5, n)
		if err != nil {
			t.Fatal(err)
		}
		var v struct {
			N, Z, ID             int
			L                    float64
			Kind, Seq, Who, Copy string
			Vessel               string
			Maybe                *string
			Opt                  *int
		}
		if err := json.Unmarshal(made, &v); err != nil {
			t.Fatal(err)
		}
		for what, is := range map[string]bool{"below the mean": v.N < 50, "within one deviation": v.N >= 40 &&
			v.N <= 60, "below the median": v.L < 40, "within one spread": v.L > 20 && v.L < 80,
			"first rank": v.Z == 1, "second rank": v.Z == 2, "car": v.Kind == "car", "null": v.Maybe == nil,
			"present": v.Opt != nil} {
			if is {
				count[what]++
			}
		}
		if v.Who != v.Copy || v.Seq != fmt.Sprintf("BF-%06d", 7+n) {
			t.Fatalf("payload %d: %s", n, made)
		}
		ids[v.ID], vessels[v.Vessel] = true, true
	}
	if len(ids) != of || len(vessels) != 5 {
		t.Errorf("%d ids of %d, %d vessels of 5", len(ids), of, len(vessels))
	}
	for what, share := range map[string]float64{"below the mean": 0.48, "within one deviation": 0.706,
		"below the median": 0.5, "within one spread": 0.683, "first rank": 0.222, "second rank": 0.111, "car": 0.7,
		"null": 0.25, "present": 0.1} {
		// five standard deviations of the share
		if got, off := float64(count[what])/of, 5*math.Sqrt(share*(1-share)/of); math.Abs(got-share) > off {
			t.Errorf("%s: %.3f, want %.3f ± %.3f", what, got, share, off)
		}
	}
}

// A payload of a wanted size has it, within a tenth, where anything can grow.
func TestSize(t *testing.T) {
	for _, text := range []string{`{"type":"object","required":["note"],"properties":{"note":{"type":"string"},` +
		`"n":{"type":"integer"}}}`,
		`{"type":"array","items":{"type":"object","properties":{"a":{"type":"integer"},"t":{"type":"string",` +
			`"format":"uuid"}},"required":["a","t"]}}`} {
		g, err := New([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		g.Size(50_000)
		for n := range uint64(20) {
			made, err := g.Make(1, n)
			if err != nil || len(made) < 45_000 || len(made) > 55_000 {
				t.Errorf("%s: payload %d has %d bytes, %v", text, n, len(made), err)
			}
		}
	}
	g, _ := New([]byte(`{"type":"string","maxLength":9}`))
	g.Size(100)
	if _, err := g.Make(1, 1); err == nil || !strings.Contains(err.Error(), "about 100 bytes") {
		t.Errorf("a text of nine characters with 100 bytes: %v", err)
	}
}

// A pattern's texts are found in it, at every length that it can have.
func FuzzPattern(f *testing.F) {
	for _, p := range []string{"^a{2,4}$", "(x|yz)*", "^[^a-z]+$", "a.c", "^$", `\bq`, "(a*)*b",
		"^(?:a|b){3}(?:cd)?$"} {
		f.Add(p, uint64(1), 0, 10)
	}
	f.Fuzz(func(t *testing.T, p string, seed uint64, lo, hi int) {
		if len(p) > 40 || lo < 0 || lo > 50 || hi < lo || hi > 60 {
			return
		}
		if _, err := engine(p); err != nil {
			return
		}
		m := newMaker(seed)
		if s, ok := m.pattern(p, lo, hi); ok && !matches(p, s) {
			t.Errorf("%q is not found in %q", p, s)
		}
	})
}

// BenchmarkMake compares making a payload of about 1 kB with marshalling the
// same value: the ratio is the median of nine interleaved pairs.
func BenchmarkMake(b *testing.B) {
	g, err := New([]byte(
		`{"type":"object","required":["pass","sailing","deck","passengers"],"properties":{"pass":{"type":"string",` +
			`"pattern":"^BF-[0-9]{4}-[0-9]{3}$"},"sailing":{"type":"string","format":"date-time"},
		"deck":{"enum":["car","foot","van"]},"passengers":{"type":"array","minItems":10,"maxItems":10,
		  "items":{"type":"object","required":["name","age","id"],"properties":{"name":{"type":"string",
		    "minLength":12,"maxLength":20},"age":{"type":"integer","minimum":0,"maximum":99},"id":{"type":"string",
		      "format":"uuid"}}}}}}`))
	if err != nil {
		b.Fatal(err)
	}
	const n = 500
	var values []any
	size := 0
	for i := range uint64(n) {
		made, err := g.Make(1, i)
		if err != nil {
			b.Fatal(err)
		}
		size += len(made)
		var v any
		_ = json.Unmarshal(made, &v)
		values = append(values, v)
	}
	marshal := func() time.Duration {
		began := time.Now()
		for _, v := range values {
			if _, err := json.Marshal(v); err != nil {
				b.Fatal(err)
			}
		}
		return time.Since(began)
	}
	create := func(from uint64) time.Duration {
		began := time.Now()
		for i := range uint64(n) {
			v, err := g.draft(1, from+i, 0, false)
			if err != nil {
				b.Fatal(err)
			}
			write(make([]byte, 0, 1024), v)
		}
		return time.Since(began)
	}
	var ratios, far []float64
	var total time.Duration
	for range 9 {
		c := create(0)
		total += c
		ratios = append(ratios, float64(c)/float64(marshal()))
		far = append(far, float64(create(1_000_000))/float64(c))
	}
	slices.Sort(ratios)
	slices.Sort(far)
	for b.Loop() { // what counts was measured
	}
	b.ReportMetric(ratios[4], "times-marshal")
	b.ReportMetric(far[4], "millionth-to-first")
	b.ReportMetric(float64(total.Nanoseconds())/9/n, "ns/payload")
	b.ReportMetric(float64(size)/n, "bytes")
}

func newMaker(seed uint64) *maker {
	return &maker{g: &Generator{programs: map[string]*automaton{}}, r: rng.New(seed, 1), effort: effort}
}
