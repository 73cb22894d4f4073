package exchange

import (
	"encoding/json"
	"io"
	"reflect"

	"github.com/invopop/jsonschema"

	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Rendered is a rendering as the command line prints it: with what it costs,
// where prices are known, and how long it usually takes.
type Rendered struct {
	*render.Rendering
	Cost *price.Cost `json:"cost,omitempty"`
	// Seconds are on the cloud's clock; Longest is the chain that decides them.
	Seconds int64    `json:"seconds"`
	Longest []string `json:"longest"`
}

// RenderingSchema writes the JSON Schema (2020-12) of a rendering as programs
// read it. A value that is pending is {"pending": [...]}, a secret the text
// secret:NAME.
func RenderingSchema(w io.Writer) error {
	reflector := &jsonschema.Reflector{Anonymous: true, DoNotReference: false, AllowAdditionalProperties: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if t == reflect.TypeFor[resource.Unresolved]() {
				return jsonschema.TrueSchema
			}
			return nil
		}}
	schema := reflector.Reflect(&Rendered{})
	schema.Title = "Under Sail rendering"
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(schema)
}
