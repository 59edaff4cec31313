package setup

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

const good = `mintbatch: 1
sites:
  quay: {kind: gateway, url: "https://127.0.0.1:7443/quay", token: "file:token"}
templates:
  deb12-base: {guest: linux, memory: 2GiB}
networks:
  survey:
    subnet: 198.51.100.0/24
    gateway: 198.51.100.1
    dns: [198.51.100.2, 198.51.100.3]
    pools:
      nodes: {ranges: 198.51.100.100-198.51.100.180, exclude: [198.51.100.110]}
presets:
  sonar-node:
    packages: [chrony]
    memory: 012
    keys:
      - one
      - two
limits: {confirm: 90s}
`

func TestRead(t *testing.T) {
	s, found := Read(nil, File{"mintbatch.yaml", []byte(good)})
	require.Empty(t, found)
	assert.Len(t, s.Networks["survey"].DNS, 2)
	assert.Equal(t, "198.51.100.1", s.Networks["survey"].Gateway[0].String(), "one value stands for a list")
	assert.Equal(t, "012", s.Presets["sonar-node"].Values["memory"], "as it is written")
	assert.Equal(t, "one\ntwo", s.Presets["sonar-node"].Values["keys"])
	assert.Equal(t, []string{"chrony"}, s.Presets["sonar-node"].Packages)
	assert.Equal(t, "mintbatch.yaml:16:13", s.Where("presets", "sonar-node", "memory").String())
	assert.Equal(t, "1m30s", s.Limits.Confirm.String())
}

func TestReadFindings(t *testing.T) {
	for says, change := range map[string][2]string{
		`mintbatch.yaml:20:1: unknown key "limts" (did you mean limits?)`:                                    {"limits:", "limts:"},
		`mintbatch.yaml:5:30: unknown key "memry" (did you mean memory?)`:                                    {"memory: 2GiB", "memry: 2GiB"},
		`mintbatch.yaml:8:13: subnet must be a subnet such as 198.51.100.0/24`:                               {"subnet: 198.51.100.0/24", "subnet: 198.51.100"},
		`mintbatch.yaml:12:23: pool nodes: 203.0.113.1-203.0.113.9 is not within`:                            {"ranges: 198.51.100.100-198.51.100.180", "ranges: 203.0.113.1-203.0.113.9"},
		`mintbatch.yaml:9:14: gateway 203.0.113.1 is not in a subnet of network survey`:                      {"gateway: 198.51.100.1", "gateway: 203.0.113.1"},
		`mintbatch.yaml:20:19: confirm must be a time such as 90s or 10m`:                                    {"90s", "90"},
		`mintbatch.yaml:3:16: kind must be gateway, libvirt or folder, not "gatway" (did you mean gateway?)`: {"kind: gateway", "kind: gatway"},
		`needs a url that begins with https://`:                                                              {"https:", "http:"},
		"`mintbatch: 1` is missing":                                                                          {"mintbatch: 1\n", ""},
		"networks must be a mapping":                                                                         {good[strings.Index(good, "networks:"):strings.Index(good, "presets:")], "networks: [a, b]\n"},
		"not YAML":                                                                                           {"sites:\n", "sites: {\n"},
		"two subnets of the same family":                                                                     {"198.51.100.0/24\n", "[198.51.100.0/24, 203.0.113.0/24]\n"},
		`mintbatch.yaml:21:23: recipients must be an age recipient (age1...), not "age1x"`:                   {"{confirm: 90s}\n", "{confirm: 90s}\nsecrets: {recipients: age1x}\n"},
		"must be plain text":                                                                                 {"- one", "- {a: b}"},
	} {
		text := strings.Replace(good, change[0], change[1], 1)
		require.NotEqual(t, good, text, says)
		_, found := Read(nil, File{"mintbatch.yaml", []byte(text)})
		var all []string
		for _, f := range found {
			all = append(all, f.Error())
		}
		assert.Contains(t, strings.Join(all, "\n"), says)
	}
	_, found := Read(nil, File{"mintbatch.yaml", nil})
	assert.Equal(t, "empty-setup", found[0].Code)
}

func TestAliasesCannotExplode(t *testing.T) {
	bomb := "mintbatch: 1\nsites: &a [x,x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'k'; c++ {
		prev := string(c - 1)
		bomb += "k" + string(c) + ": &" + string(c) + " [" + strings.TrimSuffix(strings.Repeat("*"+prev+",", 10), ",") + "]\n"
	}
	bomb += "defaults: {keys: *j}\n"
	_, found := Read(nil, File{"mintbatch.yaml", []byte(bomb)})
	assert.True(t, found.Failed())
}

// An editor that goes by the schema accepts and refuses what the program does.
func TestSchema(t *testing.T) {
	text, err := json.Marshal(Schema())
	require.NoError(t, err)
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("setup.json", document))
	schema, err := c.Compile("setup.json")
	require.NoError(t, err)
	demo, err := os.ReadFile("../../handover/demo/mintbatch.yaml")
	require.NoError(t, err)
	for text, ok := range map[string]bool{
		good: true, strings.NewReplacer("@URL@", "https://x", "@FINGERPRINT@", "x", "@DNS@", "127.0.0.1:53").Replace(string(demo)): true, strings.Replace(good, "memory: 2GiB", "memry: 2GiB", 1): false, strings.Replace(good, "limits:", "limts:", 1): false,
		strings.Replace(good, "confirm: 90s", "confirm: soon", 1): false, good + "columns: {Node: machine, x: {fixed: 1}}\nnaming: {max_length: 15, presets: {sonar-node: {prefix: x}}}\n": true,
		good + "naming: {max_length: many}\n": false,
	} {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		assert.Equal(t, ok, schema.Validate(v) == nil, "%s\n%v", text, schema.Validate(v))
	}
}

// Every key says what it is and gives an example, in a schema that an editor loads at once.
func TestSchemaExplains(t *testing.T) {
	text := SchemaText()
	assert.Less(t, len(text), 100_000)
	var whole map[string]any
	require.NoError(t, json.Unmarshal(text, &whole))
	keys, used := 0, map[string]bool{}
	visit := func(name string, of map[string]any) {
		for _, part := range append([]any{of}, anyOf(of)...) {
			properties, _ := part.(map[string]any)["properties"].(map[string]any)
			for key, p := range properties {
				of := p.(map[string]any)
				if to, is := of["$ref"].(string); is && strings.Contains(to, "/properties/") {
					continue // it is explained there
				}
				keys++
				used[name+"."+key] = true
				assert.NotEmpty(t, of["description"], name+"."+key)
				assert.NotEmpty(t, of["examples"], name+"."+key)
			}
		}
	}
	visit("Setup", whole)
	for name, d := range whole["$defs"].(map[string]any) {
		visit(name, d.(map[string]any))
	}
	assert.Greater(t, keys, 170)
	for key := range examples {
		assert.True(t, used[key], "there is no %s", key)
	}
}

func anyOf(of map[string]any) []any {
	all, _ := of["anyOf"].([]any)
	return all
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("a: &x [*x]"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		s, found := Read(nil, File{"mintbatch.yaml", b})
		if !found.Failed() {
			s.AddressNetworks()
		}
	})
}
