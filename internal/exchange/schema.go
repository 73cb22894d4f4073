package exchange

import (
	"encoding/json"
	"io"

	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
	"undersail/internal/core/secretrule"
)

// node is a part of a JSON Schema.
type node = map[string]any

// Schema writes the JSON Schema (2020-12) of template files, with which editors
// that know YAML complete and check them. It is made from the descriptions that
// the reader itself uses. What only the reader can tell, such as a reference to
// a resource that is not there, is not in it.
func Schema(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(TemplateSchema())
}

// TemplateSchema is what [Schema] writes.
func TemplateSchema() map[string]any { return templateSchema() }

var (
	expression = node{"type": "string", "pattern": "^=", "description": "An expression; == begins a literal =."}
	name       = node{"type": "string", "pattern": "^[a-z][a-z0-9_]*$"}
	span       = node{
		"type":        "string",
		"pattern":     "^([0-9]+(d|h|m|s))+$",
		"description": "A span of time such as 90s, 10m or 1h30m.",
	}
)

func described(about string) node { return node{"type": "string", "description": about} }

// orExpression lets a value be computed.
func orExpression(n node) node { return node{"anyOf": []any{expression, n}} }

func object(properties node, required ...string) node {
	out := node{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

func named(values node) node {
	return node{"type": "object", "propertyNames": name, "additionalProperties": values}
}

func list(items node) node { return node{"type": "array", "items": items} }

func templateSchema() node {
	anything := node{}
	out := object(node{
		"undersail": node{"const": 1, "description": "Version of the format."},
		"about": object(node{
			"name":     node{"type": "string", "pattern": "^[a-z][a-z0-9]*(-[a-z0-9]+)*$"},
			"version":  described("Semantic version, such as 1.4.0."),
			"title":    described("One line for lists."),
			"text":     described("What it is for."),
			"maturity": node{"enum": []string{"supported", "trial", "withdrawn"}},
			"takes":    span,
			"from":     node{"type": "string"},
		}, "name", "version", "title"),
		"inputs": named(node{"$ref": "#/$defs/input"}),
		"presets": named(object(node{
			"title":  described("One line."),
			"text":   described("When to choose it."),
			"inputs": node{"type": "object"},
		}, "title", "inputs")),
		"sizing":    named(sizingSchema()),
		"functions": named(object(node{"takes": named(anything), "gives": expression}, "gives")),
		"calc":      named(anything),
		"require": list(object(node{"that": expression, "else": described("What to say when it does not hold.")},
			"that", "else")),
		"resources": node{
			"type":                 "object",
			"propertyNames":        name,
			"minProperties":        1,
			"additionalProperties": node{"$ref": "#/$defs/resource"},
		},
		"prove":   list(node{"$ref": "#/$defs/check"}),
		"outputs": named(anything),
		"guide":   node{"type": "string"},
	}, "undersail", "about", "resources")
	out["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	out["title"] = "Under Sail template"
	out["$defs"] = node{"input": inputSchema(), "check": checkSchema(), "resource": resourceSchema()}
	return out
}

func inputSchema() node {
	flag := node{"type": "boolean"}
	properties := node{
		"type": node{"enum": lang.InputTypes()}, "picks": node{"enum": lang.PickKinds()},
		"needs": needsSchema(),
		"free": node{
			"type":        "integer",
			"minimum":     8,
			"maximum":     29,
			"description": "Length of a free range that is drawn where none is given.",
		},
		"advice": described("Text, or an expression that gives it, for whoever fills the input in."),
		"sized_by": object(node{
			"table":   name,
			"for":     node{"anyOf": []any{expression, node{"type": "number"}}},
			"advises": node{"type": "boolean", "description": "Less is a warning, not an error."},
		}, "table", "for"),
		"of":     described("Template of the stack that is picked: NAME@^1."),
		"secret": flag, "generate": flag, "optional": flag, "later": flag,
		"rules": object(node{
			"length":  node{"type": "integer"},
			"classes": node{"type": "integer"},
			"kinds":   list(node{"enum": secretrule.Kinds()}),
			"forbid":  list(node{"type": "string"}),
		}),
		"page": described("Page of the form it is asked on."), "shown_when": expression,
		"asks_consent": described("What somebody agrees to by giving it."),
	}
	for _, key := range lang.SchemaKeys() {
		if _, known := properties[key]; !known {
			properties[key] = node{}
		}
	}
	return object(properties)
}

func needsSchema() node {
	above := node{"type": "number", "exclusiveMinimum": 0}
	return object(node{
		"vcpus":        node{"type": "integer"},
		"memory":       described("Such as 16GiB."),
		"architecture": described("Such as x86_64."),
		"disk_mbps":    above,
		"network_gbps": above,
	})
}

func sizingSchema() node {
	row := object(node{"upto": node{"type": "number"}, "needs": needsSchema()}, "upto", "needs")
	return object(node{
		"unit":   described("What is counted, such as services."),
		"source": described("Where the figures come from."),
		"rows":   list(row),
	}, "unit", "rows")
}

func checkSchema() node {
	properties := node{
		"within":     span,
		"steady_for": span,
		"passes":     node{"type": "integer", "minimum": 1, "maximum": 100},
	}
	for name, kind := range health.Kinds {
		properties[name] = shapeSchema(kind.Shape)
	}
	return object(properties)
}

func resourceSchema() node {
	flag := node{"type": "boolean"}
	conduct := node{
		"when": expression, "repeat": node{},
		"after": node{"type": "object", "additionalProperties": node{"enum": []string{"healthy", "made"}}},
		"find":  node{}, "was": name, "region": described("Region, when it is not that of the stack."),
		"health": list(node{"$ref": "#/$defs/check"}), "patience": span, "guard": orExpression(flag),
		"rebuild":   node{"enum": []string{"new_first", "old_first"}},
		"pace":      object(node{"at_once": node{"type": "integer", "minimum": 1}}, "at_once"),
		"at_retire": node{"enum": []string{"keep", "snapshot"}},
		"leave":     list(node{"type": "string"}), "features": list(node{"type": "string"}),
		"makes": list(shapeSchema(resource.Making)), "extra": node{"type": "object"},
	}
	var types []any
	for _, t := range resource.Types() {
		properties := node{"type": node{"const": t.Name, "description": t.About}, "want": fields(t.Properties)}
		delete(properties["want"].(node), "required") // a resource that is only found wants nothing
		for k, v := range conduct {
			properties[k] = v
		}
		types = append(types, object(properties, "type"))
	}
	types = append(types, object(node{
		"type":   node{"const": lang.Embed, "description": "Another template."},
		"when":   expression,
		"repeat": node{},
		"after":  conduct["after"],
		"from":   described("./FILE.sail.yaml beside this one, or NAME@^2 of the library."),
		"inputs": node{"type": "object"},
	}, "type", "from"))
	return node{"oneOf": types}
}

func fields(list []resource.Property) node {
	properties, required := node{}, []string{}
	for _, p := range list {
		schema := orExpression(shapeSchema(p.Shape))
		if p.Shape.Preferred {
			schema = node{"anyOf": []any{schema, shapeSchema(p.Shape.Alternatives())}}
		}
		schema["description"] = p.About
		properties[p.Name] = schema
		if p.Required {
			required = append(required, p.Name)
		}
	}
	return object(properties, required...)
}

func shapeSchema(s resource.Shape) node {
	switch s.Kind {
	case resource.Integer:
		out := node{"type": "integer"}
		if s.Minimum != 0 {
			out["minimum"] = s.Minimum
		}
		if s.Maximum != 0 {
			out["maximum"] = s.Maximum
		}
		return out
	case resource.Number:
		return node{"type": "number"}
	case resource.Boolean:
		return node{"type": "boolean"}
	case resource.List:
		return list(orExpression(shapeSchema(*s.Items)))
	case resource.Map:
		return node{"type": "object", "additionalProperties": orExpression(shapeSchema(*s.Items))}
	case resource.Object:
		return fields(s.Fields)
	case resource.Open:
		return node{}
	case resource.String:
		if len(s.Choices) > 0 {
			return node{"enum": s.Choices}
		}
	}
	// Text may look like a number: it is read from what was written.
	return node{"type": []string{"string", "number", "boolean"}, "description": s.Describe()}
}
