package expr

import (
	"encoding/json"
	"testing"

	"cel.dev/cel-go/cel"
)

// TestLoopsOverMappingsComeByKey: whatever a loop is over, and however it is written.
func TestLoopsOverMappingsComeByKey(t *testing.T) {
	env := NewEnv(Scope{Vars: map[string]*cel.Type{"lan": cel.MapType(cel.StringType, cel.StringType)}})
	lan := map[string]any{}
	for _, zone := range []string{"south", "east", "west", "north", "middle", "coast", "bay", "fen"} {
		lan[zone] = "lan-" + zone
	}
	for text, want := range map[string]string{
		`lan.map(z, lan[z])`:                                                  `["lan-bay","lan-coast","lan-east","lan-fen","lan-middle","lan-north","lan-south","lan-west"]`,
		`lan.filter(z, z != "east")`:                                          `["bay","coast","fen","middle","north","south","west"]`,
		`lan.transformList(k, v, k + v)`:                                      `["baylan-bay","coastlan-coast","eastlan-east","fenlan-fen","middlelan-middle","northlan-north","southlan-south","westlan-west"]`,
		`{"b": 1, "c": 2, "a": 3}.map(k, k)`:                                  `["a","b","c"]`,
		`{3: "x", 20: "y", 1: "z"}.map(k, k)`:                                 `[1,3,20]`,
		`lan.transformMap(k, v, k == "bay" || k == "fen", v + "!").map(k, k)`: `["bay","fen"]`,
		`lan.transformMapEntry(k, v, {v: k}).transformList(k, v, v)[0]`:       `"bay"`,
		`carve("10.0.0.0/16", ["z/24", "a/24", "m/24"]).map(k, k)`:            `["a","m","z"]`,
		`lan == lan.transformMap(k, v, v)`:                                    `true`,
	} {
		p, problems := env.Check(text)
		if problems != nil {
			t.Errorf("%s: %+v", text, problems)
			continue
		}
		for range 20 {
			v, err := p.Eval(NewVars().With(map[string]any{"lan": lan}))
			raw, _ := json.Marshal(v)
			if err != nil || string(raw) != want {
				t.Errorf("%s gives %s, want %s (%v)", text, raw, want, err)
				break
			}
		}
	}
}
